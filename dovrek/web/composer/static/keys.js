// Keys and dialogs of the whole page.
import { send } from "./changes.js";
import { $ } from "./state.js";

document.addEventListener("keydown", (e) => {
  const typing = e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
  const key = e.key.toLowerCase();
  if ((e.ctrlKey || e.metaKey) && (key === "z" || key === "y")) {
    if (typing && e.target.value !== e.target.defaultValue) return;
    e.preventDefault();
    send(key === "y" || e.shiftKey ? "redo" : "undo", {});
  } else if (!typing && !e.ctrlKey && !e.metaKey && !document.querySelector("dialog[open]")) {
    if (e.key === "?") $("keys").showModal();
    else if (key === "p" && !e.target.closest?.(".band")) $("print-dialog").showModal();
  }
});
document.addEventListener("click", (e) => {
  if (e.target.closest("[data-close]")) e.target.closest("dialog").close();
});

// ---- what kind of print: only what goes with it is asked ---------------------------------
const WIDTHS = { backplate: 1920, dome: 4096, film: 1280 };
$("p-kind")?.addEventListener("change", (e) => {
  const kind = e.target.value;
  for (const part of document.querySelectorAll("#print-dialog [data-kinds]")) {
    part.hidden = !part.dataset.kinds.split(" ").includes(kind);
    for (const field of part.querySelectorAll("input, select")) field.disabled = part.hidden;
  }
  const shape = $("p-height").valueAsNumber / $("p-width").valueAsNumber;
  $("p-width").value = WIDTHS[kind];
  if (kind !== "dome") $("p-height").value = 2 * Math.round((WIDTHS[kind] * shape) / 2);
});
