// The schedule: rows dragged, typed and stepped; the acts of layers; groups that stay folded.
import { drawCurve } from "./curves.js";
import { ALL, refresh, send, sendFile, setValues } from "./changes.js";
import { $, clamp, here, keyGesture, main, newGesture } from "./state.js";

function fromPosition(row, at) {
  const low = Number(row.dataset.low),
    high = Number(row.dataset.high),
    u = at / 1000;
  return row.dataset.scale === "log" ? low * Math.pow(high / low, u) : low + (high - low) * u;
}
function toPosition(row, v) {
  const low = Number(row.dataset.low),
    high = Number(row.dataset.high);
  return (
    1000 *
    (row.dataset.scale === "log"
      ? Math.log(v / low) / Math.log(high / low)
      : (v - low) / (high - low))
  );
}
function tidy(row, v) {
  const step = Number(row.dataset.step);
  if (row.dataset.kind === "integer") return Math.round(v);
  const grid = row.dataset.scale === "log" && v < 10 * step ? step / 10 : step;
  return clamp(
    Number((Math.round(v / grid) * grid).toPrecision(8)),
    Number(row.dataset.low),
    Number(row.dataset.high),
  );
}
const shownAs = (row, v) => {
  const f = Number(row.dataset.factor || 1);
  return f === 1 ? v : Math.round(v / f);
};
function setRow(row, value, only) {
  row.querySelector(".value").value = shownAs(row, value);
  row.querySelector(".range").value = toPosition(row, value);
  setValues({ [row.dataset.path]: value }, row.dataset.label, only);
}
main.addEventListener("pointerdown", (e) => {
  if (e.target.matches(".range")) newGesture();
});
main.addEventListener("input", (e) => {
  if (!e.target.matches(".range")) return;
  const row = e.target.closest(".row");
  const value = tidy(row, fromPosition(row, Number(e.target.value)));
  row.querySelector(".value").value = shownAs(row, value);
  setValues({ [row.dataset.path]: value }, row.dataset.label);
});
main.addEventListener("change", (e) => {
  const row = e.target.closest(".schedule .row");
  if (e.target.id === "sky-name") {
    newGesture();
    setValues({ name: e.target.value }, "Rename", "title");
    return;
  }
  if (!row) return;
  if (e.target.matches(".range")) {
    refresh();
    return;
  }
  if (e.target.matches(".map-file")) {
    sendMap(row, e.target.files[0]);
    return;
  }
  newGesture();
  if (row.dataset.kind === "words") {
    const chosen = [...row.querySelectorAll(".switch:checked")].map((box) => box.value);
    setValues({ [row.dataset.path]: chosen }, row.dataset.label, ALL);
    return;
  }
  let value = e.target.type === "checkbox" ? e.target.checked : e.target.value.trim();
  if (e.target.matches(".value")) {
    const number = Number(value.replace(",", "."));
    value =
      value !== "" && Number.isFinite(number) ? number * Number(row.dataset.factor || 1) : value;
  }
  setValues({ [row.dataset.path]: value }, row.dataset.label, ALL);
});
main.addEventListener("keydown", (e) => {
  const row = e.target.closest?.(".schedule .row");
  if (!row || !e.target.matches(".range, .value") || row.dataset.low === undefined) return;
  const turn = {
    ArrowUp: 1,
    ArrowRight: 1,
    ArrowDown: -1,
    ArrowLeft: -1,
    PageUp: 10,
    PageDown: -10,
  }[e.key];
  if (!turn || (e.target.matches(".value") && e.key.match(/Left|Right/))) return;
  const here = Number(row.querySelector(".value").value) * Number(row.dataset.factor || 1);
  if (!Number.isFinite(here)) return;
  e.preventDefault();
  keyGesture();
  const step = Number(row.dataset.step) * (e.shiftKey ? 10 : 1);
  setRow(
    row,
    tidy(row, clamp(here + turn * step, Number(row.dataset.low), Number(row.dataset.high))),
    "section,title,ribbon,overlay",
  );
});
main.addEventListener("click", (e) => {
  const at = e.target.closest(
    "[data-thing],[data-reset],[data-toggle],[data-duplicate],[data-remove],[data-add]," +
      "[data-lock],[data-freeze],[data-deal],#undo,#redo,#order",
  );
  if (!at) return;
  const d = at.dataset;
  newGesture();
  if (at.id === "undo" || at.id === "redo") send(at.id, {}, ALL);
  else if (at.id === "order") $("print-dialog").showModal();
  else if (d.thing) choose(d.thing);
  else if (d.add) {
    at.closest("details").open = false;
    send("layers", { genus: d.add }, ALL);
  } else if (d.toggle)
    setValues(
      { [`layers[${d.toggle}].visible`]: at.getAttribute("aria-pressed") !== "true" },
      "Show or hide",
      "section,schedule,title",
    );
  else if (d.lock)
    setValues(
      { [`layers[${d.lock}].locked`]: at.getAttribute("aria-pressed") !== "true" },
      "Lock",
      ALL,
    );
  else if (d.freeze)
    send(`layers/${d.freeze}/freeze`, { frozen: at.getAttribute("aria-pressed") !== "true" }, ALL);
  else if (d.deal) send(`layers/${d.deal}/deal`, { gesture: "" }, ALL);
  else if (d.duplicate) send(`layers/${d.duplicate}/duplicate`, {}, "section,schedule,title");
  else if (d.remove) send(`layers/${d.remove}/remove`, {}, "section,schedule,title");
  else if (d.reset !== undefined) {
    const row = at.closest(".row");
    if (d.reset === "curve") {
      setValues({ [row.dataset.path]: [] }, `Reset ${row.dataset.label}`, "schedule");
      return;
    }
    setValues(
      { [row.dataset.path]: d.reset === "" ? null : Number(d.reset) },
      `Reset ${row.dataset.label}`,
      "section,schedule,title",
    );
  }
});
async function sendMap(row, file) {
  const id = row.dataset.path.match(/layers\[([^\]]+)\]/)[1];
  await sendFile(`layers/${id}/map`, "picture", file, "the map is not stored");
  refresh("section,schedule,title");
}
main.addEventListener("click", (e) => {
  const at = e.target.closest("[data-unmap]");
  if (at) {
    newGesture();
    setValues({ [at.dataset.unmap]: "" }, "Remove the map", "section,schedule,title");
  }
});

// Groups, and the further acts of a layer, stay open or closed as they were left: as they stand
// in the page when a new panel comes. While the pointer is down in the panel it waits, so that
// no press is lost between down and up.
const folds = new Map(),
  FOLDS = "details.group, details.more-acts";
let pressed = "",
  held = false;
document.addEventListener("htmx:oobBeforeSwap", (e) => {
  const id = e.detail.target?.id;
  if (pressed && id === pressed) {
    e.detail.shouldSwap = false;
    held = true;
    return;
  }
  if (id !== "schedule") return;
  for (const fold of main.querySelectorAll(FOLDS)) folds.set(fold.dataset.group, fold.open);
});
main.addEventListener("pointerdown", (e) => {
  pressed = e.target.closest("#schedule, #title")?.id || "";
});
for (const end of ["pointerup", "pointercancel"])
  window.addEventListener(end, () => {
    const panel = pressed;
    pressed = "";
    if (held) {
      held = false;
      setTimeout(() => refresh(panel), 0);
    }
  });
function unfold() {
  for (const fold of main.querySelectorAll(FOLDS)) {
    if (folds.has(fold.dataset.group)) fold.open = folds.get(fold.dataset.group);
  }
  for (const svg of main.querySelectorAll("svg.curve")) drawCurve(svg);
}

document.addEventListener("htmx:oobAfterSwap", (e) => {
  // no other panel's coming says how these stand
  if (e.detail.target?.id === "schedule" && e.detail.shouldSwap) unfold();
});
unfold();

export function choose(thing) {
  here.selected = thing;
  history.replaceState(null, "", `?selected=${encodeURIComponent(thing)}`);
  refresh("section,schedule");
}
