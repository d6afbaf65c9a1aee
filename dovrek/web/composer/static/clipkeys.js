// Keys of the clip: fixed from the schedule, dragged in time and value, eased, removed.
import { send } from "./changes.js";
import { goTo } from "./clip.js";
import { release } from "./panels.js";
import { $, clamp, here, keyGesture, look, main, newGesture } from "./state.js";

const EASES = ["smooth", "linear", "hold"];
const length = () => Number($("clip").dataset.length);
const told = (key) => ({
  path: key.closest("[data-keys]").dataset.keys,
  index: Number(key.dataset.index),
  at_s: Number(key.dataset.second),
  value: JSON.parse(key.dataset.value),
  ease: key.dataset.ease,
});
const move = (given) => send("key/move", { ...given, gesture: here.gesture });
main.addEventListener("click", (e) => {
  const at = e.target.closest("[data-fix]");
  if (!at) return;
  newGesture();
  send("key", { path: at.dataset.fix, at_s: Math.min(look.clip ?? 0, length()) });
});
let drag = null;
main.addEventListener("pointerdown", (e) => {
  const key = e.target.closest?.(".key");
  if (!key || e.button) return;
  e.preventDefault();
  newGesture();
  key.focus();
  here.held.add("key");
  const row = key.closest(".key-row");
  drag = { key, row, given: told(key), box: row.getBoundingClientRect(), moved: false };
  $("clip").setPointerCapture(e.pointerId);
});
main.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const { box, row, given } = drag,
    high = Number(row.dataset.high),
    low = Number(row.dataset.low);
  const share = clamp((e.clientX - box.left) / box.width, 0, 1),
    y = clamp(e.clientY - box.top, 5, Number(row.dataset.rows) - 5);
  drag.moved = true;
  given.at_s = share * length();
  if (typeof given.value === "number") {
    const up = 1 - (y - 5) / (Number(row.dataset.rows) - 10);
    given.value = Number((low + (high - low) * up).toPrecision(4));
  }
  drag.key.style.left = `${100 * share}%`;
  drag.key.style.top = `${y}px`;
  drag.key.querySelector("span").textContent = `${given.value} · ${given.at_s.toFixed(2)} s`;
});
main.addEventListener("pointerup", () => {
  if (!drag) return;
  const { given, moved } = drag;
  drag = null;
  if (moved) move(given);
  else goTo(given.at_s);
  release("key");
});
main.addEventListener("keydown", (e) => {
  const key = e.target.closest?.(".key");
  if (!key) return;
  const given = told(key),
    step = 1 / Number($("clip").dataset.fps);
  const row = key.closest(".key-row").dataset,
    rise = (Number(row.high) - Number(row.low)) / 40;
  if (e.key === "Delete") {
    newGesture();
    send("key/remove", { path: given.path, index: given.index });
  } else if (e.key.toLowerCase() === "e") {
    newGesture();
    move({ ...given, ease: EASES[(EASES.indexOf(given.ease) + 1) % EASES.length] });
  } else if (/Arrow(Left|Right)/.test(e.key)) {
    keyGesture();
    move({
      ...given,
      at_s: clamp(given.at_s + (e.key === "ArrowLeft" ? -step : step), 0, length()),
    });
  } else if (/Arrow(Up|Down)/.test(e.key) && typeof given.value === "number") {
    keyGesture();
    const to = given.value + (e.key === "ArrowUp" ? rise : -rise);
    move({ ...given, value: Number(to.toPrecision(5)) });
  } else return;
  e.preventDefault();
  e.stopPropagation();
});
function place() {
  for (const key of main.querySelectorAll(".key")) key.style.top = `${key.dataset.top}px`;
}
document.addEventListener("htmx:oobAfterSwap", place);
place();
