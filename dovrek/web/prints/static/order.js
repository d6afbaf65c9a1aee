// The order dialog: its form comes from the server; here only what goes together is shown.
const dialog = document.getElementById("print-dialog");
const find = (id) => document.getElementById(id);

export function openOrder(more = "") {
  if (!dialog.open) dialog.showModal();
  htmx.ajax("GET", `${dialog.dataset.order}${more}`, { target: "#order-form", swap: "outerHTML" });
}
function agree() {
  const kind = find("p-kind").value,
    format = find("p-format")?.value;
  for (const row of dialog.querySelectorAll("[data-kinds]")) {
    row.hidden = !row.dataset.kinds.split(" ").includes(kind);
    const holds = !row.dataset.formats || row.dataset.formats.split(" ").includes(format);
    for (const field of row.querySelectorAll("input, select"))
      field.disabled = row.hidden || !(holds || kind === "dome");
    const why = row.querySelector(".why");
    if (why) why.hidden = holds || kind === "dome";
  }
}
dialog.addEventListener("change", (e) => {
  if (e.target.id === "p-kind") {
    const usual = JSON.parse(e.target.dataset.usual)[e.target.value],
      aspect = Number(e.target.dataset.aspect);
    if (usual) {
      find("p-width").value = usual;
      find("p-height").value = 2 * Math.round(usual / aspect / 2);
    }
  }
  if (e.target.id === "p-habit")
    openOrder(e.target.value ? `?habit=${encodeURIComponent(e.target.value)}` : "");
  else agree();
});
document.addEventListener("htmx:afterSwap", (e) => {
  if (find("p-kind") && e.target.closest?.("#print-dialog")) agree();
});
const again = new URLSearchParams(location.search).get("print");
if (again) openOrder(`?from=${encodeURIComponent(again)}`);
