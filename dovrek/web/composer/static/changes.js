// Changes go to the server one at a time, in their order; what it answers is shown.
import { post } from "../shared/post.js";
import { $, here, lookQuery, notice, root } from "./state.js";
import { freshen, touch } from "./panels.js";

let away = 0;
export function answered(said) {
  // what every change leads to, however it was sent
  if (said.revision !== undefined) here.revision = said.revision;
  if (said.turn !== undefined) here.turn = said.turn;
  if (said.others?.length)
    notice(
      `Another window changed ${said.others.slice(0, 4).join(", ")} meanwhile. ` +
        "Your change is laid on top; undo takes it back.",
    );
  if (said.note) notice(said.note);
  touch(...(said.touched || []));
  document.dispatchEvent(new CustomEvent("touched"));
  if (said.picture) document.dispatchEvent(new CustomEvent("pictured", { detail: said }));
}
async function tell(path, body) {
  const before = $("quality").textContent; // until the picture of this change is here
  $("quality").textContent = "taking the change in";
  here.told++;
  const held = here.held.size ? "&held=1" : ""; // a hand's first value is shown as its next are
  const now = { base: here.revision, ...body };
  const answer = await post(`${root}${path}?${lookQuery()}${held}`, now);
  const said = await answer.json().catch(() => ({ error: "The server gave no readable answer." }));
  if (!answer.ok) {
    $("quality").textContent = before;
    notice(said.error);
    touch("all");
    return null;
  }
  if (said.revision === here.revision) $("quality").textContent = before;
  answered(said);
  return said;
}
// A hand moves quicker than pictures come: one of its values goes each PACE_MS, the newest.
const PACE_MS = 90;
const paced = (end) =>
  new Promise((done) => {
    const look = () => {
      if (!here.held.size || performance.now() >= end) done();
      else setTimeout(look, 8);
    };
    look();
  });
// One request at a time; the others wait in their order, and of the values of one gesture only the
// newest go. What the server could not be told is kept and sent when it answers again.
export async function send(path, body, after) {
  if (here.sending || away) {
    wait({ path, body, after });
    return;
  }
  here.sending = true;
  const end = performance.now() + PACE_MS;
  let said = null,
    lost = false;
  try {
    said = await tell(path, body);
    if (body.gesture && here.held.size) await paced(end);
  } catch {
    lost = true;
  }
  here.sending = false;
  if (lost) {
    keep({ path, body, after });
    stayAway();
    return;
  }
  if (said?.selected) here.selected = said.selected;
  if (here.waiting.length) {
    const next = here.waiting.shift();
    if (after) after(said);
    await send(next.path, next.body, next.after);
    return;
  }
  await freshen();
  if (after) after(said);
}
// Each says where things stand, not a step to take.
const NEWEST = ["change", "hour", "sun", "aim", "heroes/drag"];
const oneGesture = (a, b) =>
  a &&
  b &&
  a.path === b.path &&
  NEWEST.includes(a.path) &&
  a.body.gesture &&
  a.body.gesture === b.body.gesture;
const merged = (old, late) => ({
  path: late.path,
  body: { ...old.body, ...late.body, values: { ...old.body.values, ...late.body.values } },
  after: late.after || old.after,
});
function wait(change) {
  const last = here.waiting.at(-1);
  if (oneGesture(last, change)) here.waiting[here.waiting.length - 1] = merged(last, change);
  else here.waiting.push(change);
}
function keep(change) {
  // it was first, and stays so
  if (oneGesture(change, here.waiting[0])) here.waiting[0] = merged(change, here.waiting[0]);
  else here.waiting.unshift(change);
}
function stayAway() {
  notice("The server does not answer; the change is kept here and sent when it is back.");
  $("quality").textContent = "no connection; the change is kept";
  away = setTimeout(async () => {
    const there = await fetch(`${root}where`).then(
      (r) => r.ok,
      () => false,
    );
    if (!there) {
      stayAway();
      return;
    }
    away = 0;
    const next = here.waiting.shift();
    if (next) {
      touch("all");
      await send(next.path, next.body, next.after);
      notice("The server is back; the change is stored.");
    }
  }, 1500);
}
export const setValues = (values, note, after) =>
  send("change", { values, note, gesture: here.gesture }, after);

// A file goes in its turn, after the changes under way. What the server said, or nothing.
export async function sendFile(path, field, file, lost) {
  if (!file) return null;
  while (here.sending || here.waiting.length) await new Promise((r) => setTimeout(r, 60));
  const body = new FormData();
  body.append("base", here.revision);
  body.append(field, file);
  const answer = await post(`${root}${path}?${lookQuery()}`, body).catch(() => null);
  const said = answer
    ? await answer.json().catch(() => ({}))
    : { error: `The server does not answer; ${lost}.` };
  if (answer?.ok) {
    answered(said);
    freshen();
    return said;
  }
  notice(said.error || "The file was refused.");
  return null;
}
