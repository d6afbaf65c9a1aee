// The day ribbon: the hour dragged and stepped.
import { send } from "./changes.js";
import { release } from "./panels.js";
import { $, clamp, here, inSight, keyGesture, main, newGesture, root } from "./state.js";

// Once the picture rests, the sky's own clouds are counted in, hour by hour.
const LOOKED_MS = 4000;
async function countClouds() {
  await inSight();
  const rests = /^(proof|final)/.test($("picture").dataset.quality || "") && !here.held.size;
  if (rests) {
    const said = await fetch(`${root}ribbon.json`).then(
      (answer) => (answer.ok ? answer.json() : null),
      () => null,
    );
    const image = document.querySelector("#strip image");
    if (said && image) {
      const at = new URL(image.getAttribute("href"), window.location.href);
      if (at.searchParams.get("day") !== said.day) {
        at.searchParams.set("day", said.day);
        image.setAttribute("href", at.pathname + at.search);
      }
      $("strip").dataset.clouds = `${said.found} of ${said.wanted}`;
    }
  }
  setTimeout(countClouds, LOOKED_MS);
}
setTimeout(countClouds, LOOKED_MS);
function showHour(share) {
  const strip = $("strip"),
    minutes = Math.round(share * Number(strip.dataset.minutes));
  strip.dataset.share = share;
  $("now").setAttribute("x1", share * 1000);
  $("now").setAttribute("x2", share * 1000);
  $("clock").style.left = `${share * 100}%`;
  $("clock").textContent =
    `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
  strip.setAttribute("aria-valuenow", minutes);
  strip.setAttribute("aria-valuetext", $("clock").textContent);
}
function hourAt(e) {
  const box = $("strip").getBoundingClientRect();
  const share = clamp((e.clientX - box.left) / box.width, 0, 0.9993);
  showHour(share);
  send("hour", { share, gesture: here.gesture });
}
main.addEventListener("pointerdown", (e) => {
  if (!e.target.closest?.("#strip") || e.button) return;
  e.preventDefault();
  newGesture();
  here.held.add("hour");
  $("strip").focus();
  $("ribbon").setPointerCapture(e.pointerId);
  hourAt(e);
});
main.addEventListener("pointermove", (e) => {
  if (here.held.has("hour")) hourAt(e);
});
main.addEventListener("pointerup", () => {
  if (here.held.has("hour")) release("hour");
});
main.addEventListener("keydown", (e) => {
  if (e.target.id !== "strip") return;
  const turn = {
    ArrowRight: 10,
    ArrowLeft: -10,
    ArrowUp: 10,
    ArrowDown: -10,
    PageUp: 60,
    PageDown: -60,
  }[e.key];
  if (!turn) return;
  e.preventDefault();
  keyGesture();
  const strip = e.target,
    by = (turn * (e.shiftKey ? 6 : 1)) / Number(strip.dataset.minutes);
  const share = clamp(Number(strip.dataset.share) + by, 0, 0.9993);
  showHour(share);
  send("hour", { share, gesture: here.gesture });
});
function place() {
  for (const mark of document.querySelectorAll("[data-at]"))
    mark.style.left = `${Number(mark.dataset.at) * 100}%`;
}
document.addEventListener("htmx:afterSettle", place);
document.addEventListener("htmx:oobAfterSwap", place);
place();
