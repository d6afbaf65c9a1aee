// What this window shows of its sky, and what all scripts of the composer share. The composer shows
// and points; every rule and computation is the server's.
export const main = document.getElementById("composer");
export const root = main.dataset.root;
export const look = { view: "picture", extent: 40, alone: "", clip: null };
export const here = {
  revision: Number(main.dataset.revision),
  turn: null, // of the states its sky was turned to, the one that panels show; values of one
  // gesture share a revision, not a turn
  selected: main.dataset.selected,
  gesture: "", // values of one gesture are one step
  sending: false,
  told: 0, // changes told to the server; those of one gesture share a revision
  waiting: [], // changes that wait for the one under way
  held: new Set(), // what a hand drags: pictures come, panels do not
};
export const $ = (id) => document.getElementById(id);
export const notice = (text) => window.dovrekNotice(text);
export const clamp = (v, low, high) => Math.min(Math.max(v, low), high);
export const now = () => ({ ...here, busy: here.sending || here.waiting.length > 0 });
export const lookQuery = () =>
  `view=${look.view}&extent=${look.extent}&alone=${encodeURIComponent(look.alone)}` +
  (look.clip === null ? "" : `&clip=${look.clip.toFixed(3)}`);
export const newGesture = () => {
  here.gesture = Math.random().toString(36).slice(2, 12);
};
let gestureTimer = 0;
export function keyGesture() {
  // key presses in quick succession are one step
  if (!gestureTimer) newGesture();
  clearTimeout(gestureTimer);
  gestureTimer = setTimeout(() => {
    gestureTimer = 0;
  }, 900);
}
export const press = (id, on) => $(id).setAttribute("aria-pressed", on);
export const pressed = (id) => $(id).getAttribute("aria-pressed") === "true";
// What is so of the view shown: seen from above, all around, or through the lens.
export const seen = () => {
  const d = main.querySelector(`button[data-view="${look.view}"]`).dataset;
  return { above: d.kind === "above", around: d.kind === "around", lens: d.kind === "lens", ...d };
};
export function blobOf(encoded) {
  const text = atob(encoded),
    bytes = new Uint8Array(text.length);
  for (let k = 0; k < text.length; k++) bytes[k] = text.charCodeAt(k);
  return new Blob([bytes]);
}
// Once this window can be seen: browsers give a host few connections, and the server few threads.
export const inSight = () =>
  document.hidden
    ? new Promise((done) => document.addEventListener("visibilitychange", done, { once: true }))
    : null;
