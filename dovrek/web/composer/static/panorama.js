// Look around in the dome's picture through a flat window.
import { canvas } from "./picture.js";
import { $, clamp, press, pressed } from "./state.js";

const plate = $("plate");
const pano = $("panorama"),
  glass = pano.getContext("2d");
const eye = { heading: 0, pitch: 15, wide: 75 };
export function lookAround(on) {
  press("around", on);
  pano.hidden = !on;
  plate.classList.toggle("inside", on);
  if (on) {
    eye.heading = Number($("overlay").dataset.heading);
    drawPanorama();
  }
}
function drawPanorama() {
  // the dome's picture, seen through a flat window
  const w = pano.width,
    h = pano.height,
    dome = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
  const out = glass.createImageData(w, h),
    half = Math.tan((eye.wide * Math.PI) / 360),
    rad = Math.PI / 180;
  const cp = Math.cos(eye.pitch * rad),
    sp = Math.sin(eye.pitch * rad);
  for (let y = 0, at = 0; y < h; y++) {
    const b = ((1 - (2 * (y + 0.5)) / h) * half * h) / w,
      ahead = cp - b * sp,
      up = sp + b * cp;
    for (let x = 0; x < w; x++, at += 4) {
      const a = ((2 * (x + 0.5)) / w - 1) * half;
      const azimuth = Math.atan2(a, ahead) + eye.heading * rad,
        height = Math.atan2(up, Math.hypot(a, ahead));
      let u = (azimuth / (2 * Math.PI) + 0.5) % 1;
      if (u < 0) u += 1;
      const from =
        4 *
        (Math.min(Math.floor((0.5 - height / Math.PI) * dome.height), dome.height - 1) *
          dome.width +
          Math.floor(u * dome.width));
      out.data[at] = dome.data[from];
      out.data[at + 1] = dome.data[from + 1];
      out.data[at + 2] = dome.data[from + 2];
      out.data[at + 3] = 255;
    }
  }
  glass.putImageData(out, 0, 0);
  pano.dataset.heading = eye.heading.toFixed(1);
  $("readout").textContent =
    `looking ${Math.round(((eye.heading % 360) + 360) % 360)}°, ${Math.round(eye.pitch)}° up`;
}
$("around").addEventListener("click", () => lookAround(!pressed("around")));
let turning = null;
pano.addEventListener("pointerdown", (e) => {
  e.stopPropagation();
  turning = [e.clientX, e.clientY, eye.heading, eye.pitch];
  pano.setPointerCapture(e.pointerId);
});
pano.addEventListener("pointermove", (e) => {
  if (!turning) return;
  const per = eye.wide / pano.clientWidth;
  eye.heading = turning[2] - (e.clientX - turning[0]) * per;
  eye.pitch = clamp(turning[3] + (e.clientY - turning[1]) * per, -85, 85);
  requestAnimationFrame(drawPanorama);
});
pano.addEventListener("pointerup", () => {
  turning = null;
});
pano.addEventListener("keydown", (e) => {
  const turn = { ArrowRight: [5, 0], ArrowLeft: [-5, 0], ArrowUp: [0, 5], ArrowDown: [0, -5] }[
    e.key
  ];
  if (turn) {
    e.preventDefault();
    eye.heading += turn[0];
    eye.pitch = clamp(eye.pitch + turn[1], -85, 85);
    drawPanorama();
  }
});
document.addEventListener("painted", () => {
  if (!pano.hidden) drawPanorama();
});
