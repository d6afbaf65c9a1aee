// The schedule: rows dragged, typed and stepped; the acts of layers; groups that stay folded.
import { openOrder } from "../prints/order.js";
import { drawCurve } from "./curves.js";
import { send, sendFile, setValues } from "./changes.js";
import { freshen, release, touch } from "./panels.js";
import { clamp, here, keyGesture, main, newGesture } from "./state.js";

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
function setRow(row, value) {
  row.querySelector(".value").value = shownAs(row, value);
  row.querySelector(".range").value = toPosition(row, value);
  setValues({ [row.dataset.path]: value }, row.dataset.label);
}
main.addEventListener("pointerdown", (e) => {
  if (!e.target.matches(".range")) return;
  newGesture();
  here.held.add("range");
});
for (const end of ["pointerup", "pointercancel"])
  window.addEventListener(end, () => {
    if (here.held.has("range")) setTimeout(() => release("range"), 0);
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
    setValues({ name: e.target.value }, "Rename");
    return;
  }
  if (!row || e.target.matches(".range")) return;
  if (e.target.matches(".map-file")) {
    sendMap(row, e.target.files[0]);
    return;
  }
  if (e.target.matches(".reference-behind")) {
    newGesture();
    if (e.target.value) send("behind/reference", { reference: Number(e.target.value) });
    return;
  }
  newGesture();
  if (row.dataset.kind === "words") {
    const chosen = [...row.querySelectorAll(".switch:checked")].map((box) => box.value);
    setValues({ [row.dataset.path]: chosen }, row.dataset.label);
    return;
  }
  let value = e.target.type === "checkbox" ? e.target.checked : e.target.value.trim();
  if (e.target.matches(".value")) {
    const number = Number(value.replace(",", "."));
    value =
      value !== "" && Number.isFinite(number) ? number * Number(row.dataset.factor || 1) : value;
  }
  setValues({ [row.dataset.path]: value }, row.dataset.label);
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
  if (at.id === "undo" || at.id === "redo") send(at.id, {});
  else if (at.id === "order") openOrder();
  else if (d.thing) choose(d.thing);
  else if (d.add) {
    at.closest("details").open = false;
    send("layers", { genus: d.add });
  } else if (d.toggle)
    setValues(
      { [`layers[${d.toggle}].visible`]: at.getAttribute("aria-pressed") !== "true" },
      "Show or hide",
    );
  else if (d.lock)
    setValues({ [`layers[${d.lock}].locked`]: at.getAttribute("aria-pressed") !== "true" }, "Lock");
  else if (d.freeze)
    send(`layers/${d.freeze}/freeze`, { frozen: at.getAttribute("aria-pressed") !== "true" });
  else if (d.deal) send(`layers/${d.deal}/deal`, { gesture: "" });
  else if (d.duplicate) send(`layers/${d.duplicate}/duplicate`, {});
  else if (d.remove) send(`layers/${d.remove}/remove`, {});
  else if (d.reset !== undefined) {
    const row = at.closest(".row");
    if (d.reset === "curve") {
      setValues({ [row.dataset.path]: [] }, `Reset ${row.dataset.label}`);
      return;
    }
    setValues(
      { [row.dataset.path]: d.reset === "" ? null : Number(d.reset) },
      `Reset ${row.dataset.label}`,
    );
  }
});
async function sendMap(row, file) {
  const layer = row.dataset.path.match(/layers\[([^\]]+)\]/);
  const places = {
    "behind.asset": "behind",
    "relief.picture": "relief/picture",
    "ground.map": "ground/map",
  };
  const to = layer ? `layers/${layer[1]}/map` : places[row.dataset.path] || "relief/map";
  await sendFile(to, "picture", file, "the map is not stored");
}
main.addEventListener("click", (e) => {
  if (e.target.id === "match-tints") {
    newGesture();
    send("behind/tints", {});
    return;
  }
  const at = e.target.closest("[data-unmap]");
  if (at) {
    newGesture();
    setValues({ [at.dataset.unmap]: "" }, "Remove the map");
  }
});

// Groups, and the further acts of a layer, stay open or closed as they were left: as they stand
// in the page when a new panel comes.
const folds = new Map(),
  FOLDS = "details.group, details.more-acts";
document.addEventListener("htmx:oobBeforeSwap", (e) => {
  if (e.detail.target?.id !== "schedule" || !e.detail.shouldSwap) return;
  for (const fold of main.querySelectorAll(FOLDS)) folds.set(fold.dataset.group, fold.open);
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
  touch("selected");
  return freshen();
}
