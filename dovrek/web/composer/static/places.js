// Places on the plan: land and banks moved, turned and drawn out; two presses set the camera down.
import { setValues } from "./changes.js";
import { release } from "./panels.js";
import { $, clamp, here, keyGesture, newGesture, notice, seen } from "./state.js";

const plate = $("plate");
let drag = null;
const wide = () => Number($("overlay").dataset.extent); // kilometres
const round = (v, step) => Number((Math.round(v / step) * step).toFixed(3));
const turned = (d, deg) => {
  const low = Number(d.low),
    span = Number(d.span);
  return low + ((((deg - low) % span) + span) % span);
};
function kmOf(e, box) {
  // kilometres east and north of the plan's middle
  const per = wide() / box.width;
  return alongGround(
    (e.clientX - box.left - box.width / 2) * per,
    -(e.clientY - box.top - box.height / 2) * per,
  );
}
function alongGround(x, y) {
  // a globe's places lie farther along the ground than they look
  const radius = Number($("overlay").dataset.globe),
    off = Math.hypot(x, y);
  if (!radius || !off) return [x, y];
  const share = (radius * Math.asin(Math.min(off / radius, 1))) / off;
  return [x * share, y * share];
}
function told(e) {
  const [east, north] = kmOf(e, drag.box),
    d = drag.d;
  const a = east - drag.at[0],
    b = north - drag.at[1];
  if (drag.kind === "move")
    return {
      [d.east]: clamp(round(Number(d.eastKm) + a, 0.1), -d.far, d.far),
      [d.north]: clamp(round(Number(d.northKm) + b, 0.1), -d.far, d.far),
    };
  const x = east - drag.middle[0],
    y = north - drag.middle[1],
    far = round(Math.max(d.drawn * Math.hypot(x, y), 0.5), 0.1);
  if (drag.kind === "side") return { [d.width]: far };
  const drawn = { [d.length]: Math.max(far, Number(d.least)) };
  if (!d.turn) return drawn; // round: it has no bearing
  const bearing = (Math.atan2(x, y) * 180) / Math.PI;
  return { [d.turn]: round(turned(d, bearing), 1), ...drawn };
}
plate.addEventListener("pointerdown", (e) => {
  const grip = e.target.closest?.(".footprint [data-grip]");
  if (!grip || e.button) return;
  e.preventDefault();
  newGesture();
  const at = grip.closest(".footprint"),
    box = plate.getBoundingClientRect();
  at.focus();
  here.held.add("place");
  const place = kmOf(e, box),
    [mx, my] = at.dataset.middle.split(",").map(Number);
  const height = Number($("overlay").dataset.height),
    per = wide() / 1000;
  const middle = alongGround((mx - 500) * per, -(my - height / 2) * per);
  drag = { kind: grip.dataset.grip, d: at.dataset, box, at: place, middle, moved: false };
  plate.setPointerCapture(e.pointerId);
});
plate.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const [east, north] = kmOf(e, drag.box);
  const gone = Math.hypot(east - drag.at[0], north - drag.at[1]);
  if (!drag.moved && gone < 0.004 * wide()) return;
  drag.moved = true;
  setValues(told(e), drag.d.name);
});
plate.addEventListener("pointerup", () => {
  if (!drag) return;
  const { d, moved } = drag;
  drag = null;
  release("place");
  if (!moved) document.querySelector(`#section [data-layer="${d.thing.slice(6)}"],
    [data-thing="${d.thing}"]`)?.dispatchEvent(new MouseEvent("click", { bubbles: true }));
});
plate.addEventListener("keydown", (e) => {
  const at = e.target.closest?.(".footprint"),
    step = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
  if (!at || !step) return;
  e.preventDefault();
  keyGesture();
  const d = at.dataset,
    nudge = d.far > 1000 ? 10 : 0.5;
  if (e.shiftKey && step[0] && d.turn)
    setValues({ [d.turn]: turned(d, Number(d.turnDeg) + 5 * step[0]) }, d.name);
  else if (e.shiftKey)
    setValues(
      { [d.length]: round(Number(d.lengthKm) * (step[1] > 0 ? 1.1 : 1 / 1.1), 0.1) },
      d.name,
    );
  else
    setValues(
      {
        [d.east]: clamp(round(Number(d.eastKm) + nudge * step[0], 0.1), -d.far, d.far),
        [d.north]: clamp(round(Number(d.northKm) + nudge * step[1], 0.1), -d.far, d.far),
      },
      d.name,
    );
});
// Two presses on the plan set the camera down there.
plate.addEventListener("dblclick", (e) => {
  if (!seen().above || e.target.closest?.("[data-grip], .wind, #sun-handle")) return;
  const [east, north] = kmOf(e, plate.getBoundingClientRect()),
    d = $("overlay").dataset;
  const to = (from, by) => clamp(Math.round(Number(from) + 1000 * by), -3e6, 3e6);
  newGesture();
  setValues(
    { "camera.east_m": to(d.eastM, east), "camera.north_m": to(d.northM, north) },
    "Set the camera down",
  );
  notice("The camera stands there now; its height counts from the ground below it.");
});
