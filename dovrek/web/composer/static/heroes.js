// Clouds placed by hand: set down by a press on the view, moved and drawn out by their marks.
import { send, setValues } from "./changes.js";
import { release } from "./panels.js";
import { choose } from "./schedule.js";
import { $, here, keyGesture, main, newGesture, notice } from "./state.js";

const plate = $("plate");
let placing = "", // layer that the next press puts a cloud in
  taking = false, // or takes one of
  drag = null;
function placeIn(e, box = plate.getBoundingClientRect()) {
  return [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
}
function begin(layer, take = false) {
  placing = layer;
  taking = take;
  plate.classList.toggle("placing", Boolean(layer));
  if (layer) {
    const what = take ? "Press the cloud that is meant" : "Press where it is to stand";
    notice(`${what}, on the picture or the plan. Esc leaves, Enter takes the middle.`);
    plate.focus();
  }
}
function put(u, v) {
  newGesture();
  send(taking ? "heroes/take" : "heroes", { layer: placing, u, v });
  begin("");
}
main.addEventListener("click", (e) => {
  const at = e.target.closest("[data-place],[data-take],[data-hero-act]");
  if (!at) return;
  const d = at.dataset;
  if (d.place) begin(d.place);
  else if (d.take) begin(d.take, true);
  else if (d.heroAct === "again") {
    newGesture();
    const path = `layers[${d.layer}].heroes[${d.hero}].seed`;
    setValues({ [path]: (Number(d.seed) + 1) % 1000000 }, "Another like it");
  } else {
    newGesture();
    send(`heroes/${d.heroAct}`, { layer: d.layer, hero: d.hero });
  }
});
plate.addEventListener(
  "pointerdown",
  (e) => {
    if (placing && !e.button) {
      e.preventDefault();
      e.stopImmediatePropagation();
      put(...placeIn(e));
      return;
    }
    const grip = e.target.closest?.(".hero-mark [data-grip]");
    if (!grip || e.button) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    newGesture();
    const at = grip.closest(".hero-mark");
    at.focus();
    here.held.add("hero");
    const box = plate.getBoundingClientRect();
    drag = { at, what: grip.dataset.grip, box, from: placeIn(e, box), moved: false };
    plate.setPointerCapture(e.pointerId);
  },
  true,
);
plate.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const [u, v] = placeIn(e, drag.box);
  if (!drag.moved && Math.hypot(u - drag.from[0], v - drag.from[1]) < 0.004) return;
  drag.moved = true;
  const { layer, hero } = drag.at.dataset;
  send("heroes/drag", { layer, hero, what: drag.what, u, v, gesture: here.gesture });
});
plate.addEventListener("pointerup", () => {
  if (!drag) return;
  const { at, moved } = drag;
  drag = null;
  release("hero");
  if (!moved) choose(at.dataset.mark);
});
document.addEventListener("keydown", (e) => {
  if (!placing || (e.key !== "Escape" && e.key !== "Enter")) return;
  e.preventDefault();
  if (e.key === "Enter") put(0.5, 0.35);
  else begin("");
});
plate.addEventListener("keydown", (e) => {
  const at = e.target.closest?.(".hero-mark"),
    step = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
  if (!at) return;
  const d = at.dataset,
    path = `layers[${d.layer}].heroes[${d.hero}].`;
  if (e.key === "Enter") choose(d.mark);
  else if (e.key.toLowerCase() === "d") {
    newGesture();
    send("heroes/duplicate", { layer: d.layer, hero: d.hero });
  } else if (e.key === "Delete") {
    newGesture();
    send("heroes/remove", { layer: d.layer, hero: d.hero });
  } else if (step && !e.shiftKey) {
    keyGesture();
    const by = 0.1 * Number(d.width);
    setValues(
      {
        [`${path}east_m`]: Math.round(Number(d.east) + by * step[0]),
        [`${path}north_m`]: Math.round(Number(d.north) + by * step[1]),
      },
      "Place a cloud",
    );
  } else if (step) {
    keyGesture();
    const more = step[0] + step[1] > 0 ? 1.1 : 1 / 1.1;
    setValues({ [`${path}width_m`]: Math.round(Number(d.width) * more) }, "Place a cloud");
  } else return;
  e.preventDefault();
});
