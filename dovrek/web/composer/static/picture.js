// The live picture: asked for, inked in, and what is said of it.
import { freshen, touch } from "./panels.js";
import { $, blobOf, here, inSight, lookQuery, main, notice, root } from "./state.js";

export const canvas = $("picture");
const ink = canvas.getContext("2d");
let serial = 0,
  progress = -1,
  asking = null;
export function lookAnew() {
  // another view: its pictures count for themselves
  serial = 0;
  progress = -1;
  canvas.dataset.serial = 0;
  asking?.abort();
  $("quality").textContent = "turning to another view";
  touch("look");
  freshen();
}
async function paint(state) {
  if (state.picture.image) {
    await inkIn(state, blobOf(state.picture.image));
    return;
  }
  const answer = await fetch(`${root}picture/${state.picture.serial}.png?${lookQuery()}`);
  if (answer.ok) await inkIn(state, await answer.blob());
}
async function inkIn(state, blob) {
  const bitmap = await createImageBitmap(blob);
  if (state.picture.serial < Number(canvas.dataset.serial || 0)) return;
  if (canvas.width !== bitmap.width || canvas.height !== bitmap.height) {
    canvas.width = bitmap.width;
    canvas.height = bitmap.height;
  }
  $("plate").style.setProperty("--aspect", bitmap.width / bitmap.height);
  ink.drawImage(bitmap, 0, 0);
  canvas.dataset.serial = state.picture.serial;
  canvas.dataset.revision = state.picture.revision;
  canvas.dataset.quality = state.picture.quality;
  canvas.dataset.painted = performance.now();
  document.dispatchEvent(new CustomEvent("painted", { detail: state.picture }));
  const lens = main.querySelector('[data-path="camera.lens_mm"] .value');
  const numbers = [`EV ${state.picture.ev.toFixed(1)}`, `${state.picture.kelvins} K`];
  if (lens) numbers.push(`${lens.value} mm`);
  $("numbers").textContent = numbers.join("   ");
}
document.addEventListener("pictured", (e) => {
  // the picture that came with the answer to a change
  inkIn(e.detail, blobOf(e.detail.picture.image));
});
// What another window changed is shown here, too: at once, and where its hand came to rest.
const free = () => !here.sending && !here.held.size;
async function keepUp(state) {
  if (!free()) return;
  here.turn ??= state.turn;
  if (state.revision && state.revision !== here.revision) {
    await new Promise((r) => setTimeout(r, 60));
    if (state.revision === here.revision || !free()) return;
    here.revision = state.revision;
    notice("Another window changed this sky; this one shows it now.");
  } else if (state.turn <= here.turn || !state.rests) return;
  if (state.rests) here.turn = state.turn;
  touch("all");
  freshen();
}
let judged = "",
  looked = "";
async function watch() {
  for (;;) {
    await inSight(); // a window behind others asks for nothing
    const asked = lookQuery();
    if (asked !== looked) here.turn = null; // each look counts its own
    looked = asked;
    const turn = here.turn === null ? "" : `&turn=${here.turn}`,
      panels = free() ? `&revision=${here.revision}${turn}` : "", // else they are not to change
      known = `serial=${serial}&progress=${progress}${panels}`;
    asking = new AbortController();
    try {
      const answer = await fetch(`${root}live?${known}&${asked}`, { signal: asking.signal });
      if (!answer.ok) throw new Error(answer.status);
      const state = await answer.json();
      if (asked !== lookQuery()) continue;
      progress = state.progress;
      if (state.fault) {
        notice(state.fault);
        await new Promise((r) => setTimeout(r, 1500));
      }
      if (state.picture && state.picture.serial !== serial) {
        serial = state.picture.serial;
        await paint(state);
      }
      $("progress").value = state.progress;
      const shown = `${state.revision} ${state.turn} ${asked}`;
      const told = state.turn <= (here.turn ?? state.turn); // else `keepUp` asks for all
      if (state.done && told && judged !== shown && free()) {
        judged = shown;
        touch("picture");
        freshen();
      }
      const size = state.picture ? ` ${state.picture.width} × ${state.picture.height}` : "";
      $("quality").textContent =
        state.done && state.picture
          ? `${state.stage}${size}`
          : state.picture
            ? `${state.picture.quality}${size} · ${state.stage}`
            : state.warm
              ? state.stage
              : `warming up: the renderer is compiling, once per machine (${Math.round(
                  100 * state.progress,
                )} %)`;
      if (state.again_s) await new Promise((r) => setTimeout(r, 1000 * state.again_s));
      await keepUp(state);
    } catch (fault) {
      if (fault.name === "AbortError") continue;
      here.turn = null;
      canvas.dataset.serial = 0; // a server started anew counts its pictures anew
      $("quality").textContent = "no connection; trying again";
      await new Promise((r) => setTimeout(r, 1500));
    }
  }
}
watch();
