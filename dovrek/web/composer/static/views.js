// Views of one sky: picture, dome, plan; what is drawn over them and handled there.
import { $, blobOf, canvas, clamp, keyGesture, look, lookAnew, lookQuery, main, newGesture, notice, now, refresh, root, send, sendFile, setValues, token } from "./composer.js";

const plate = $("plate");
let drag = null, overlayOf = 0;
const over = () => $("overlay");
function placeIn(e) { // place in the view, 0 to 1, and beyond while dragging
  const box = drag?.box || plate.getBoundingClientRect(); // a picture arriving may resize the plate
  return [(e.clientX - box.left) / box.width, (e.clientY - box.top) / box.height];
}

// ---- which view -----------------------------------------------------------------------
function turnTo(view) {
  if (look.view === view) return;
  look.view = view;
  for (const b of main.querySelectorAll("[data-view]")) if (b.tagName === "BUTTON") b.setAttribute("aria-pressed", b.dataset.view === view);
  document.querySelector(".extent").hidden = view !== "plan";
  $("around").hidden = view !== "dome";
  if (view !== "dome") lookAround(false);
  $("drawing").hidden = view !== "picture" || !$("drawing").getAttribute("src");
  canvas.setAttribute("aria-label", { picture: "The sky through the lens", dome: "The sky all around", plan: "The sky from above" }[view]);
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
  notice(look.alone ? "This layer is shown alone in this window; the sky itself is unchanged." : "");
  lookAnew();
}
$("extent").addEventListener("change", (e) => { look.extent = Number(e.target.value); lookAnew(); });

// ---- handles: sun, horizon, wind ------------------------------------------------------
const drawn = () => ({ x: 1000, y: Number(over().dataset.height) });
async function say(kind) {
  const said = await fetch(`${root}where`).then((r) => r.json()).catch(() => null);
  if (said) $("readout").textContent = said[kind];
}
function moveSun(u, v) {
  const handle = $("sun-handle"), size = drawn();
  if (handle) handle.setAttribute("transform", `translate(${u * size.x - handle.dataset.x} ${v * size.y - handle.dataset.y})`);
  send("sun", { u, v, gesture: now().gesture }, undefined, () => say("sun"));
}
function moveAim(u, v) {
  send("aim", { u0: drag.u, v0: drag.v, u, v, heading: drag.heading, pitch: drag.pitch, gesture: now().gesture }, undefined, () => say("camera"));
}
function turnWind(arrow, e) {
  const [u, v] = placeIn(e), size = drawn();
  const to = Math.atan2(u * size.x - arrow.dataset.x, -(v * size.y - arrow.dataset.y)) * 180 / Math.PI;
  setWind(arrow, Math.round(((to + 180) % 360 + 360) % 360 / 5) * 5 % 360);
}
function setWind(arrow, from, only) {
  const turn = from - Number(arrow.dataset.from);
  arrow.querySelector(".shaft").setAttribute("transform", `rotate(${turn} ${arrow.dataset.x} ${arrow.dataset.y})`);
  $("readout").textContent = `wind from ${from}°`;
  setValues({ [`layers[${arrow.dataset.layer}].wind.from_deg`]: from }, "Wind", only);
}
plate.addEventListener("pointerdown", (e) => {
  const at = e.target.closest?.("#sun-handle, #aim, .wind");
  if (!at || e.button) return;
  e.preventDefault();
  newGesture();
  at.focus();
  const box = plate.getBoundingClientRect(), [u, v] = placeIn(e), d = over().dataset;
  drag = { box, kind: at.id || "wind", at, u, v, heading: Number(d.heading), pitch: Number(d.pitch), moved: false };
  plate.setPointerCapture(e.pointerId);
});
plate.addEventListener("pointermove", (e) => {
  if (!drag) { hover(e); return; }
  const [u, v] = placeIn(e);
  if (!drag.moved && Math.hypot(u - drag.u, v - drag.v) < 0.004) return;
  drag.moved = true;
  if (drag.kind === "sun-handle") moveSun(clamp(u, -1, 2), clamp(v, -1, 2));
  else if (drag.kind === "aim") moveAim(clamp(u, -1, 2), clamp(v, -1, 2));
  else turnWind(drag.at, e);
});
plate.addEventListener("pointerup", () => { if (drag) { drag = null; settle(); } });
function settle() { // once the last change is stored, draw everything anew
  if (now().busy) setTimeout(settle, 60); else refresh();
}
plate.addEventListener("keydown", (e) => {
  const at = e.target.closest?.("#sun-handle, #aim, .wind");
  const turn = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
  if (!at || !turn) return;
  e.preventDefault();
  keyGesture();
  const back = () => refresh("overlay,schedule,title,ribbon").then(() => (at.id ? $(at.id) : over().querySelector(`.wind[data-layer="${at.dataset.layer}"]`))?.focus());
  const much = e.shiftKey ? 6 : 1;
  if (at.id === "aim") {
    const d = over().dataset;
    const heading = ((Number(d.heading) + 2 * much * turn[0]) % 360 + 360) % 360, pitch = clamp(Number(d.pitch) + much * turn[1], -90, 90);
    send("change", { values: { "camera.heading_deg": heading, "camera.pitch_deg": pitch }, note: "Aim the camera", gesture: now().gesture }, undefined, back);
  } else if (at.id === "sun-handle") nudgeSun(turn, much, back);
  else { const from = ((Number(at.dataset.from) + 5 * much * (turn[0] + turn[1])) % 360 + 360) % 360; setWind(at, from); setTimeout(back, 200); }
});
function nudgeSun(turn, much, back) {
  const strip = $("strip"), free = main.querySelector('[data-path="sun.elevation_deg"] .value');
  if (free) {
    const bearing = main.querySelector('[data-path="sun.azimuth_deg"] .value');
    send("change", { values: { "sun.elevation_deg": clamp(Number(free.value) + turn[1] * much, -90, 90), "sun.azimuth_deg": ((Number(bearing.value) + turn[0] * much) % 360 + 360) % 360 }, note: "Sun", gesture: now().gesture }, undefined, back);
    return;
  }
  const share = clamp(Number(strip.dataset.share) + 10 * much * (turn[0] + turn[1]) / Number(strip.dataset.minutes), 0, 0.9993);
  strip.dataset.share = share;
  send("hour", { share, gesture: now().gesture }, undefined, back);
}
let wheelTimer = 0;
function changeLens(factor) {
  const d = over().dataset, row = main.querySelector('[data-path="camera.lens_mm"] .value');
  const mm = clamp(Math.round(Number(d.lens) * factor * 10) / 10, 8, 800);
  d.lens = mm;
  if (row) row.value = mm;
  $("readout").textContent = `lens ${mm} mm`;
  setValues({ "camera.lens_mm": mm }, "Lens");
  clearTimeout(wheelTimer);
  wheelTimer = setTimeout(settle, 500);
}
plate.addEventListener("wheel", (e) => {
  if (look.view !== "picture" || e.ctrlKey) return;
  e.preventDefault();
  keyGesture();
  changeLens(e.deltaY < 0 ? 1.06 : 1 / 1.06);
}, { passive: false });
document.addEventListener("painted", (e) => { // marks follow the picture
  if (e.detail.revision !== overlayOf && !drag && Number(over().dataset.revision) !== e.detail.revision) {
    overlayOf = e.detail.revision;
    setTimeout(() => { if (!drag && !now().busy) refresh("overlay,title"); }, 150);
  }
  if (!$("exposure").hidden) showExposure(true);
  if (!$("panorama").hidden) drawPanorama();
});

// ---- the light under the pointer ------------------------------------------------------
let hoverTimer = 0, hoverAt = null;
function hover(e) {
  hoverAt = placeIn(e);
  if (!hoverTimer) hoverTimer = setTimeout(readLight, 90);
}
plate.addEventListener("pointerleave", () => { hoverAt = null; $("readout").textContent = ""; });
async function readLight() {
  hoverTimer = 0;
  if (!hoverAt || drag || now().busy) return;
  const [u, v] = hoverAt;
  if (u < 0 || v < 0 || u > 1 || v > 1) return;
  const r = await fetch(`${root}reading?u=${u.toFixed(4)}&v=${v.toFixed(4)}&${lookQuery()}`).then((a) => (a.ok ? a.json() : null)).catch(() => null);
  if (!r || !hoverAt) return;
  const feet = document.body.dataset.units === "feet", far = (m) => (feet ? `${Math.round(m / 0.3048)} ft` : m < 3000 ? `${Math.round(m)} m` : `${(m / 1000).toFixed(1)} km`);
  const cd = r.luminance_cd_m2 >= 10 ? Math.round(r.luminance_cd_m2) : r.luminance_cd_m2.toPrecision(2);
  $("readout").textContent = `${cd} cd/m² · EV ${r.ev} (${r.stops >= 0 ? "+" : ""}${r.stops.toFixed(1)}) · ${r.what}${r.altitude_m !== undefined ? ` at ${far(r.altitude_m)}, ${far(r.distance_m)} away` : ""}`;
  $("readout").dataset.layer = r.layer || "";
}

// ---- guides, exposure, 100 % ----------------------------------------------------------
const press = (id, on) => $(id).setAttribute("aria-pressed", on);
function showGuides(on) { press("show-guides", on); plate.classList.toggle("guided", on); }
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
const pressed = (id) => $(id).getAttribute("aria-pressed") === "true";
$("show-guides").addEventListener("click", () => showGuides(!pressed("show-guides")));
$("show-exposure").addEventListener("click", () => showExposure(!pressed("show-exposure")));
$("show-actual").addEventListener("click", () => showActual(!pressed("show-actual")));
for (const step of $("ramp").children) step.style.borderTopColor = step.dataset.colour;

// ---- look around in the dome ----------------------------------------------------------
const pano = $("panorama"), glass = pano.getContext("2d");
const eye = { heading: 0, pitch: 15, wide: 75 };
function lookAround(on) {
  press("around", on);
  pano.hidden = !on;
  plate.classList.toggle("inside", on);
  if (on) { eye.heading = Number(over().dataset.heading); drawPanorama(); }
}
function drawPanorama() { // the dome's picture, seen through a flat window
  const w = pano.width, h = pano.height, dome = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
  const out = glass.createImageData(w, h), half = Math.tan(eye.wide * Math.PI / 360), rad = Math.PI / 180;
  const cp = Math.cos(eye.pitch * rad), sp = Math.sin(eye.pitch * rad);
  for (let y = 0, at = 0; y < h; y++) {
    const b = (1 - 2 * (y + 0.5) / h) * half * h / w, ahead = cp - b * sp, up = sp + b * cp;
    for (let x = 0; x < w; x++, at += 4) {
      const a = (2 * (x + 0.5) / w - 1) * half;
      const azimuth = Math.atan2(a, ahead) + eye.heading * rad, height = Math.atan2(up, Math.hypot(a, ahead));
      let u = (azimuth / (2 * Math.PI) + 0.5) % 1; if (u < 0) u += 1;
      const from = 4 * (Math.min(Math.floor((0.5 - height / Math.PI) * dome.height), dome.height - 1) * dome.width + Math.floor(u * dome.width));
      out.data[at] = dome.data[from]; out.data[at + 1] = dome.data[from + 1]; out.data[at + 2] = dome.data[from + 2]; out.data[at + 3] = 255;
    }
  }
  glass.putImageData(out, 0, 0);
  pano.dataset.heading = eye.heading.toFixed(1);
  $("readout").textContent = `looking ${Math.round((eye.heading % 360 + 360) % 360)}°, ${Math.round(eye.pitch)}° up`;
}
$("around").addEventListener("click", () => lookAround(!pressed("around")));
let turning = null;
pano.addEventListener("pointerdown", (e) => { e.stopPropagation(); turning = [e.clientX, e.clientY, eye.heading, eye.pitch]; pano.setPointerCapture(e.pointerId); });
pano.addEventListener("pointermove", (e) => {
  if (!turning) return;
  const per = eye.wide / pano.clientWidth;
  eye.heading = turning[2] - (e.clientX - turning[0]) * per;
  eye.pitch = clamp(turning[3] + (e.clientY - turning[1]) * per, -85, 85);
  requestAnimationFrame(drawPanorama);
});
pano.addEventListener("pointerup", () => { turning = null; });
pano.addEventListener("keydown", (e) => {
  const turn = { ArrowRight: [5, 0], ArrowLeft: [-5, 0], ArrowUp: [0, 5], ArrowDown: [0, -5] }[e.key];
  if (turn) { e.preventDefault(); eye.heading += turn[0]; eye.pitch = clamp(eye.pitch + turn[1], -85, 85); drawPanorama(); }
});

// ---- a drawing over the picture -------------------------------------------------------
$("drawing-file").addEventListener("change", async (e) => {
  const said = await sendFile("overlay", "picture", e.target.files[0], "the drawing is not stored");
  e.target.value = "";
  if (!said) return;
  $("drawing").src = URL.createObjectURL(blobOf(said.png));
  $("drawing").hidden = look.view !== "picture";
  $("drop-drawing").hidden = false;
});
$("drop-drawing").addEventListener("click", async () => {
  await fetch(`${root}overlay/remove`, { method: "POST", headers: { "X-Token": token } });
  $("drawing").hidden = true; $("drawing").removeAttribute("src"); $("drop-drawing").hidden = true;
});
main.addEventListener("change", async (e) => {
  if (e.target.id !== "camera-file" || !e.target.files[0]) return;
  await sendFile("camera", "file", e.target.files[0], "the camera is as it was");
  refresh();
});

// ---- keys -----------------------------------------------------------------------------
document.addEventListener("keydown", (e) => {
  if (e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea") || e.ctrlKey || e.metaKey || e.altKey) return;
  if (document.querySelector("dialog[open]") || e.target.closest?.(".band")) return;
  const key = e.key.toLowerCase();
  if ("123".includes(key)) turnTo(["picture", "dome", "plan"][Number(key) - 1]);
  else if (key === "g") showGuides(!pressed("show-guides"));
  else if (key === "x") showExposure(!pressed("show-exposure"));
  else if (key === "z") showActual(!pressed("show-actual"));
  else if (key === "l" && look.view === "dome") lookAround(!pressed("around"));
  else if (key === "+" || key === "=") { keyGesture(); changeLens(1.06); }
  else if (key === "-") { keyGesture(); changeLens(1 / 1.06); }
});
main.addEventListener("keydown", (e) => {
  const band = e.target.closest?.(".band");
  if (band && e.key.toLowerCase() === "a" && !e.ctrlKey && !e.metaKey) showAlone(band.dataset.layer);
});

// ---- a link into a view, as for a second window -----------------------------------------
const asked = new URLSearchParams(location.search).get("view");
if (asked === "dome" || asked === "plan") turnTo(asked);
