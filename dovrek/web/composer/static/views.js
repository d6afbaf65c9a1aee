// Which view is shown, and what is laid over it.
import { post } from "../shared/post.js";
import { sendFile } from "./changes.js";
import { changeLens } from "./handles.js";
import { lookAround } from "./panorama.js";
import { canvas, lookAnew } from "./picture.js";
import { $, blobOf, keyGesture, look, lookQuery, main, notice } from "./state.js";
import { press, pressed, root, seen } from "./state.js";

const plate = $("plate");
const views = [...main.querySelectorAll("button[data-view]")].map((b) => b.dataset.view);

// ---- which view -----------------------------------------------------------------------
function turnTo(view) {
  if (look.view === view) return;
  look.view = view;
  for (const b of main.querySelectorAll("[data-view]"))
    if (b.tagName === "BUTTON") b.setAttribute("aria-pressed", b.dataset.view === view);
  const { above, around, lens, label } = seen();
  document.querySelector(".extent").hidden = !above;
  $("around").hidden = !around;
  if (!around) lookAround(false);
  $("drawing").hidden = !lens || !$("drawing").getAttribute("src");
  canvas.setAttribute("aria-label", label);
  lookAnew();
}
main.addEventListener("click", (e) => {
  const at = e.target.closest("button[data-view],[data-alone]");
  if (!at) return;
  if (at.dataset.view) turnTo(at.dataset.view);
  else showAlone(at.dataset.alone);
});
export function showAlone(id) {
  look.alone = look.alone === id ? "" : id;
  notice(
    look.alone ? "This layer is shown alone in this window; the sky itself is unchanged." : "",
  );
  lookAnew();
}
$("extent").addEventListener("change", (e) => {
  look.extent = Number(e.target.value);
  lookAnew();
});
// ---- guides, exposure, 100 % ----------------------------------------------------------
function showGuides(on) {
  press("show-guides", on);
  plate.classList.toggle("guided", on);
}
function showExposure(on) {
  press("show-exposure", on);
  $("ramp").hidden = !on;
  $("exposure").hidden = !on;
  if (on) $("exposure").src = `${root}exposure.png?${lookQuery()}&t=${canvas.dataset.serial}`;
}
function showActual(on) {
  press("show-actual", on);
  plate.classList.toggle("actual", on);
  plate.style.setProperty("--points", `${canvas.width / devicePixelRatio}px`);
}
$("show-guides").addEventListener("click", () => showGuides(!pressed("show-guides")));
$("show-exposure").addEventListener("click", () => showExposure(!pressed("show-exposure")));
$("show-actual").addEventListener("click", () => showActual(!pressed("show-actual")));
for (const step of $("ramp").children) step.style.borderTopColor = step.dataset.colour;
document.addEventListener("painted", () => {
  if (!$("exposure").hidden) showExposure(true);
});

// ---- a drawing over the picture -------------------------------------------------------
$("drawing-file").addEventListener("change", async (e) => {
  const said = await sendFile("overlay", "picture", e.target.files[0], "the drawing is not stored");
  e.target.value = "";
  if (!said) return;
  $("drawing").src = URL.createObjectURL(blobOf(said.png));
  $("drawing").hidden = !seen().lens;
  $("drop-drawing").hidden = false;
});
$("drop-drawing").addEventListener("click", async () => {
  await post(`${root}overlay/remove`, {});
  $("drawing").hidden = true;
  $("drawing").removeAttribute("src");
  $("drop-drawing").hidden = true;
});
main.addEventListener("change", async (e) => {
  if (e.target.id !== "camera-file" || !e.target.files[0]) return;
  await sendFile("camera", "file", e.target.files[0], "the camera is as it was");
});
// ---- keys -----------------------------------------------------------------------------
document.addEventListener("keydown", (e) => {
  if (
    e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea") ||
    e.ctrlKey ||
    e.metaKey ||
    e.altKey
  )
    return;
  if (document.querySelector("dialog[open]") || e.target.closest?.(".band")) return;
  const key = e.key.toLowerCase();
  if (views[Number(key) - 1]) turnTo(views[Number(key) - 1]);
  else if (key === "g") showGuides(!pressed("show-guides"));
  else if (key === "x") showExposure(!pressed("show-exposure"));
  else if (key === "z") showActual(!pressed("show-actual"));
  else if (key === "l" && seen().around) lookAround(!pressed("around"));
  else if (key === "+" || key === "=") {
    keyGesture();
    changeLens(1.06);
  } else if (key === "-") {
    keyGesture();
    changeLens(1 / 1.06);
  }
});
main.addEventListener("keydown", (e) => {
  const band = e.target.closest?.(".band");
  if (band && e.key.toLowerCase() === "a" && !e.ctrlKey && !e.metaKey)
    showAlone(band.dataset.layer);
});
// ---- a link into a view, as for a second window -----------------------------------------
const asked = new URLSearchParams(location.search).get("view");
if (views.includes(asked)) turnTo(asked);
