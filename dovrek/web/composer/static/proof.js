// The motion proof: small frames that play at true speed while they refine.
import { ask, askFrames } from "./frames.js";
import { $, look, main, notice } from "./state.js";

const canvas = $("proof"),
  ink = canvas.getContext("2d");
let run = 0, // each order of frames; a newer one takes over
  sets = [], // seconds and bitmaps, the finest last
  length = 1,
  started = 0,
  held = -1, // the second at which it is paused, or none
  later = 0;
const playing = () => !canvas.hidden;
const now = () => (held >= 0 ? held : ((performance.now() - started) / 1000) % length);

function nearest(second) {
  // the finest frame that stands at a second or shortly before
  for (const set of [...sets].reverse()) {
    let found = -1;
    for (let k = 0; k < set.seconds.length && set.seconds[k] <= second + 1e-6; k++) found = k;
    if (found >= 0 && set.pictures[found]) return set.pictures[found];
  }
  const coarse = sets[0];
  for (let k = coarse?.seconds.length - 1; k >= 0; k--)
    if (coarse.seconds[k] <= second + 1e-6 && coarse.pictures[k]) return coarse.pictures[k];
  return null;
}
function draw() {
  if (!playing()) return;
  const second = now(),
    picture = nearest(second);
  if (picture) ink.drawImage(picture, 0, 0, canvas.width, canvas.height);
  canvas.dataset.second = second.toFixed(2);
  requestAnimationFrame(draw);
}
async function gather(kind, mine) {
  const board = await ask(kind);
  if (!board || mine !== run) return null;
  const set = { seconds: board.seconds, pictures: [], kind };
  length = board.length;
  const done = await new Promise((all) => {
    if (kind === "fine") sets = [...sets.filter((s) => s.kind !== "fine"), set];
    askFrames(
      board,
      async (index, url) => {
        const image = new Image();
        image.src = url;
        await image.decode().catch(() => null);
        set.pictures[index] = image;
        const count = set.pictures.filter(Boolean).length;
        $("readout").textContent = `${kind} proof: ${count} of ${set.seconds.length} frames`;
      },
      () => mine === run,
    ).then(all);
  });
  return done ? set : null;
}
async function prove() {
  const mine = ++run;
  const coarse = await gather("coarse", mine);
  if (!coarse || mine !== run) return;
  sets = [coarse, ...sets.filter((s) => s.kind === "fine")];
  if (!playing()) {
    canvas.width = coarse.pictures[0]?.width * 2 || 480;
    canvas.height = coarse.pictures[0]?.height * 2 || 270;
    canvas.hidden = false;
    canvas.dataset.began = performance.now();
    started = performance.now();
    held = -1;
    requestAnimationFrame(draw);
  }
  await gather("fine", mine);
  if (mine === run) $("readout").textContent = "motion proof · Space pauses, Escape closes";
}
export function closeProof() {
  run++;
  sets = [];
  canvas.hidden = true;
  $("readout").textContent = "";
}
main.addEventListener("click", (e) => {
  if (!e.target.closest("#proof-start")) return;
  if (playing()) closeProof();
  else {
    notice("");
    $("readout").textContent = "coarse proof: begun";
    prove();
  }
});
document.addEventListener("keydown", (e) => {
  if (!playing() || e.target.matches?.("input, select, textarea")) return;
  if (e.key === "Escape") closeProof();
  else if (e.key === " ") {
    e.preventDefault();
    if (held >= 0) {
      started = performance.now() - 1000 * held;
      held = -1;
    } else {
      held = now();
      canvas.dataset.second = held.toFixed(2); // what is told is where it stands, at once
    }
  } else if (held >= 0 && e.target.id === "film") held = look.clip ?? held;
});
document.addEventListener("touched", () => {
  if (!playing()) return; // it goes on with what there is while new frames are made
  clearTimeout(later);
  later = setTimeout(() => playing() && prove(), 900);
});
