// The section: bands dragged in height and thickness, and by keys.
import { send, setValues } from "./changes.js";
import { release, touch } from "./panels.js";
import { choose } from "./schedule.js";
import { $, clamp, here, keyGesture, main, newGesture } from "./state.js";

const scale = () => JSON.parse($("section").dataset.scale);
export function altitudeAt(y) {
  const table = scale();
  for (let i = 1; i < table.length; i++) {
    const [y1, a1] = table[i],
      [y0, a0] = table[i - 1];
    if (y >= y1 || i === table.length - 1) return a0 + ((a1 - a0) * (y0 - y)) / (y0 - y1);
  }
}
export function sectionY(e) {
  const svg = $("section").querySelector(":scope > svg");
  return new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.getScreenCTM().inverse()).y;
}
let drag = null;
main.addEventListener("pointerdown", (e) => {
  const band = e.target.closest?.(".band");
  if (!band || e.button) return;
  e.preventDefault();
  band.focus();
  newGesture();
  const y = sectionY(e);
  here.held.add("band");
  drag = {
    id: band.dataset.layer,
    edge: e.target.dataset.edge || "",
    y,
    moved: false,
    band,
    base: Number(band.dataset.base),
    thick: Number(band.dataset.thick),
    from: altitudeAt(y),
  };
  $("section").setPointerCapture(e.pointerId);
});
main.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const y = sectionY(e),
    s = $("section").dataset;
  if (!drag.moved && Math.abs(y - drag.y) < 2) return;
  drag.moved = true;
  const by = altitudeAt(y) - drag.from,
    round = (v) => Math.round(v / 10) * 10;
  const base = (v) => clamp(round(v), Number(s.baseLow), Number(s.baseHigh));
  const thick = (v) => clamp(round(v), Number(s.thickLow), Number(s.thickHigh));
  const path = `layers[${drag.id}]`;
  let values, text;
  if (drag.edge === "top") {
    values = { [`${path}.thickness_m`]: thick(drag.thick + by) };
    text = `top ${Math.round(drag.base + thick(drag.thick + by))} m`;
  } else if (drag.edge === "base") {
    const b = base(drag.base + by);
    values = {
      [`${path}.base_m`]: b,
      [`${path}.thickness_m`]: thick(drag.thick - (b - drag.base)),
    };
    text = `base ${b} m`;
  } else {
    values = { [`${path}.base_m`]: base(drag.base + by) };
    text = `base ${base(drag.base + by)} m`;
    drag.band.setAttribute("transform", `translate(0 ${y - drag.y})`);
  }
  $("drag-note").textContent = text;
  setValues(values, drag.edge === "top" ? "Thickness" : "Base");
});
main.addEventListener("pointerup", () => {
  if (!drag) return;
  here.selected = `layer:${drag.id}`;
  drag = null;
  touch("selected");
  release("band");
});
main.addEventListener("keydown", (e) => {
  const band = e.target.closest?.(".band");
  if (!band || e.ctrlKey || e.metaKey) return;
  const id = band.dataset.layer,
    path = `layers[${id}]`,
    s = $("section").dataset;
  if (e.key === "Enter" || e.key === " ") {
    e.preventDefault();
    choose(`layer:${id}`);
  } else if (e.key === "ArrowUp" || e.key === "ArrowDown") {
    e.preventDefault();
    keyGesture();
    const by = (e.key === "ArrowUp" ? 1 : -1) * 50,
      thick = Number(band.dataset.thick),
      base = Number(band.dataset.base);
    const values = e.shiftKey
      ? { [`${path}.thickness_m`]: clamp(thick + by, Number(s.thickLow), Number(s.thickHigh)) }
      : { [`${path}.base_m`]: clamp(base + by, Number(s.baseLow), Number(s.baseHigh)) };
    setValues(values, e.shiftKey ? "Thickness" : "Base");
  } else if (e.key.toLowerCase() === "d") {
    newGesture();
    send(`layers/${id}/duplicate`, {});
  } else if (e.key.toLowerCase() === "l") {
    e.stopPropagation();
    newGesture();
    setValues({ [`${path}.locked`]: band.dataset.locked !== "true" }, "Lock");
  } else if (e.key.toLowerCase() === "h") {
    newGesture();
    setValues({ [`${path}.visible`]: band.dataset.visible !== "true" }, "Show or hide");
  } else if (e.key === "Delete") {
    newGesture();
    send(`layers/${id}/remove`, {});
  }
});
