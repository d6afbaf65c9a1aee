// The clip at the bottom: its second dragged and stepped, its values typed, its strip of film.
import { setValues } from "./changes.js";
import { ask, askFrames } from "./frames.js";
import { release } from "./panels.js";
import { lookAnew } from "./picture.js";
import { $, clamp, here, look, main, newGesture } from "./state.js";

const length = () => Number($("clip").dataset.length);
let last = 0,
  waiting = 0;
export function turnTime(clip) {
  main.dataset.time = clip ? "clip" : "day";
  look.clip = clip ? Math.min(last, length()) : null;
  lookAnew();
  if (clip) film();
}
function mark(second) {
  const share = second / length(),
    text = `${second.toFixed(2)} s`;
  for (const id of ["film-now", "film-clock"]) $(id).style.left = `${100 * share}%`;
  $("film-clock").textContent = text;
  $("film").setAttribute("aria-valuenow", second.toFixed(2));
  $("film").setAttribute("aria-valuetext", text);
}
export function goTo(second) {
  last = look.clip = clamp(Math.round(second * 1000) / 1000, 0, length());
  mark(last);
  if (waiting) return; // the hand moves on: the newest second counts
  waiting = setTimeout(() => {
    waiting = 0;
    lookAnew();
  }, 70);
}
const under = (e) => {
  const box = $("film").getBoundingClientRect();
  return (clamp((e.clientX - box.left) / box.width, 0, 1) || 0) * length();
};
main.addEventListener("pointerdown", (e) => {
  if (!e.target.closest?.("#film") || e.button) return;
  e.preventDefault();
  here.held.add("film");
  $("film").focus();
  $("clip").setPointerCapture(e.pointerId);
  goTo(under(e));
});
main.addEventListener("pointermove", (e) => {
  if (here.held.has("film")) goTo(under(e));
});
main.addEventListener("pointerup", () => {
  if (here.held.has("film")) release("film");
});
main.addEventListener("keydown", (e) => {
  if (e.target.id !== "film") return;
  const frame = 1 / Number($("clip").dataset.fps),
    by = { ArrowRight: frame, ArrowUp: frame, ArrowLeft: -frame, ArrowDown: -frame }[e.key];
  const to = { Home: 0, End: length() }[e.key];
  if (by === undefined && to === undefined) return;
  e.preventDefault();
  goTo(to ?? (look.clip ?? last) + (e.shiftKey ? Math.sign(by) : by));
});
main.addEventListener("click", (e) => {
  const at = e.target.closest("button[data-time]");
  if (at) turnTime(at.dataset.time === "clip");
});
document.addEventListener("keydown", (e) => {
  const typing = e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
  if (typing || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("dialog[open]"))
    return;
  if (e.key.toLowerCase() === "m") turnTime(look.clip === null);
});
main.addEventListener("change", (e) => {
  const d = e.target.dataset;
  if (!e.target.matches(".clip-value, .clip-switch, .clip-word")) return;
  newGesture();
  let value = e.target.type === "checkbox" ? e.target.checked : e.target.value.trim();
  if (e.target.matches(".clip-value")) value = Number(value.replace(",", ".")) || value;
  setValues({ [d.path]: value }, d.label);
});

// ---- the strip of film ----------------------------------------------------------------
const shots = new Map();
let ordered = 0,
  later = 0;
function show() {
  for (const img of main.querySelectorAll("[data-film]")) {
    const url = shots.get(Number(img.dataset.film));
    if (!url) continue;
    img.src = url;
    img.hidden = false;
  }
}
async function film() {
  const mine = ++ordered;
  const board = await ask("strip");
  if (!board || mine !== ordered) return;
  await askFrames(
    board,
    (frame, url) => {
      shots.set(frame, url);
      show();
    },
    () => mine === ordered && look.clip !== null,
  );
}
document.addEventListener("touched", () => {
  clearTimeout(later);
  later = setTimeout(() => {
    if (look.clip !== null) film();
  }, 1200);
});
document.addEventListener("htmx:oobAfterSwap", (e) => {
  if (e.detail.target?.id !== "clip") return;
  show();
  if (look.clip !== null) mark(Math.min(look.clip, length()));
});
