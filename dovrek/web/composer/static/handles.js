// Handles on a view: the sun, the camera's aim, the winds, the lens by wheel.
import { send, setValues } from "./changes.js";
import { follow, release } from "./panels.js";
import { hover } from "./reading.js";
import { $, clamp, here, keyGesture, main, newGesture, now, root, seen } from "./state.js";

const plate = $("plate");
let drag = null,
  overlayOf = 0;
const over = () => $("overlay");
function placeIn(e) {
  // place in the view, 0 to 1, and beyond while dragging
  const box = drag?.box || plate.getBoundingClientRect(); // a picture arriving may resize the plate
  return [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
}

const drawn = () => ({ x: 1000, y: Number(over().dataset.height) });
async function say(kind) {
  const said = await fetch(`${root}where`)
    .then((r) => r.json())
    .catch(() => null);
  if (said) $("readout").textContent = said[kind];
}
function moveSun(u, v) {
  const handle = $("sun-handle"),
    size = drawn();
  if (handle)
    handle.setAttribute(
      "transform",
      `translate(${u * size.x - handle.dataset.x} ${v * size.y - handle.dataset.y})`,
    );
  send("sun", { u, v, gesture: now().gesture }, () => say("sun"));
}
function moveAim(u, v) {
  send(
    "aim",
    {
      u0: drag.u,
      v0: drag.v,
      u,
      v,
      heading: drag.heading,
      pitch: drag.pitch,
      gesture: now().gesture,
    },
    () => say("camera"),
  );
}
function turnWind(arrow, e) {
  const [u, v] = placeIn(e),
    size = drawn();
  const to =
    (Math.atan2(u * size.x - arrow.dataset.x, -(v * size.y - arrow.dataset.y)) * 180) / Math.PI;
  setWind(arrow, (Math.round(((((to + 180) % 360) + 360) % 360) / 5) * 5) % 360);
}
function setWind(arrow, from) {
  const turn = from - Number(arrow.dataset.from);
  arrow
    .querySelector(".shaft")
    .setAttribute("transform", `rotate(${turn} ${arrow.dataset.x} ${arrow.dataset.y})`);
  $("readout").textContent = `wind from ${from}°`;
  setValues({ [`layers[${arrow.dataset.layer}].wind.from_deg`]: from }, "Wind");
}
plate.addEventListener("pointerdown", (e) => {
  const at = e.target.closest?.("#sun-handle, #aim, .wind");
  if (!at || e.button) return;
  e.preventDefault();
  newGesture();
  at.focus();
  const box = plate.getBoundingClientRect(),
    [u, v] = placeIn(e),
    d = over().dataset;
  here.held.add("handle");
  drag = {
    box,
    kind: at.id || "wind",
    at,
    u,
    v,
    heading: Number(d.heading),
    pitch: Number(d.pitch),
    moved: false,
  };
  plate.setPointerCapture(e.pointerId);
});
plate.addEventListener("pointermove", (e) => {
  if (!drag) {
    hover(placeIn(e));
    return;
  }
  const [u, v] = placeIn(e);
  if (!drag.moved && Math.hypot(u - drag.u, v - drag.v) < 0.004) return;
  drag.moved = true;
  if (drag.kind === "sun-handle") moveSun(clamp(u, -1, 2), clamp(v, -1, 2));
  else if (drag.kind === "aim") moveAim(clamp(u, -1, 2), clamp(v, -1, 2));
  else turnWind(drag.at, e);
});
plate.addEventListener("pointerup", () => {
  if (drag) {
    drag = null;
    release("handle");
  }
});
plate.addEventListener("keydown", (e) => {
  const at = e.target.closest?.("#sun-handle, #aim, .wind");
  const turn = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[
    e.key
  ];
  if (!at || !turn) return;
  e.preventDefault();
  keyGesture();
  const much = e.shiftKey ? 6 : 1;
  if (at.id === "aim") {
    const d = over().dataset;
    const heading = (((Number(d.heading) + 2 * much * turn[0]) % 360) + 360) % 360,
      pitch = clamp(Number(d.pitch) + much * turn[1], -90, 90);
    setValues({ "camera.heading_deg": heading, "camera.pitch_deg": pitch }, "Aim the camera");
  } else if (at.id === "sun-handle") nudgeSun(turn, much);
  else {
    const from = (((Number(at.dataset.from) + 5 * much * (turn[0] + turn[1])) % 360) + 360) % 360;
    setWind(at, from);
  }
});
function nudgeSun(turn, much) {
  const strip = $("strip"),
    free = main.querySelector('[data-path="sun.elevation_deg"] .value');
  if (free) {
    const bearing = main.querySelector('[data-path="sun.azimuth_deg"] .value');
    setValues(
      {
        "sun.elevation_deg": clamp(Number(free.value) + turn[1] * much, -90, 90),
        "sun.azimuth_deg": (((Number(bearing.value) + turn[0] * much) % 360) + 360) % 360,
      },
      "Sun",
    );
    return;
  }
  const share = clamp(
    Number(strip.dataset.share) + (10 * much * (turn[0] + turn[1])) / Number(strip.dataset.minutes),
    0,
    0.9993,
  );
  strip.dataset.share = share;
  send("hour", { share, gesture: now().gesture });
}
let wheelTimer = 0;
export function changeLens(factor) {
  const d = over().dataset,
    row = main.querySelector('[data-path="camera.lens_mm"] .value');
  const mm = clamp(Math.round(Number(d.lens) * factor * 10) / 10, 8, 800);
  d.lens = mm;
  if (row) row.value = mm;
  $("readout").textContent = `lens ${mm} mm`;
  setValues({ "camera.lens_mm": mm }, "Lens");
  clearTimeout(wheelTimer);
  here.held.add("lens");
  wheelTimer = setTimeout(() => release("lens"), 500);
}
plate.addEventListener(
  "wheel",
  (e) => {
    if (!seen().lens || e.ctrlKey) return;
    e.preventDefault();
    keyGesture();
    changeLens(e.deltaY < 0 ? 1.06 : 1 / 1.06);
  },
  { passive: false },
);
document.addEventListener("painted", (e) => {
  // marks follow the picture
  const late = Number(over().dataset.revision) !== e.detail.revision;
  if (e.detail.revision === overlayOf || drag || !late) return;
  overlayOf = e.detail.revision;
  setTimeout(() => {
    if (!drag && !now().busy) follow();
  }, 150);
});
