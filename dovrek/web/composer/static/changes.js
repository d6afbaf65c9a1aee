// Changes go to the server one at a time, in their order; what it answers is shown.
import { $, here, lookQuery, main, notice, root, token } from "./state.js";

export const ALL = "section,schedule,title,ribbon,overlay,advisories";
let away = 0;
export function answered(said) {
  // what every change leads to, however it was sent
  if (said.revision !== undefined) here.revision = said.revision;
  if (said.others?.length)
    notice(
      `Another window changed ${said.others.slice(0, 4).join(", ")} meanwhile. ` +
        "Your change is laid on top; undo takes it back.",
    );
  if (said.note) notice(said.note);
  if (said.picture) document.dispatchEvent(new CustomEvent("pictured", { detail: said }));
}
async function post(path, body) {
  const before = $("quality").textContent; // until the picture of this change is here
  $("quality").textContent = "taking the change in";
  const answer = await fetch(`${root}${path}?${lookQuery()}`, {
    method: "POST",
    body: JSON.stringify({ base: here.revision, ...body }),
    headers: { "Content-Type": "application/json", "X-Token": token },
  });
  const said = await answer.json().catch(() => ({ error: "The server gave no readable answer." }));
  if (!answer.ok) {
    $("quality").textContent = before;
    notice(said.error);
    refresh();
    return null;
  }
  if (said.revision === here.revision) $("quality").textContent = before;
  answered(said);
  return said;
}
// One request at a time; the others wait in their order, and of the values of one gesture only the
// newest go. What the server could not be told is kept and sent when it answers again.
export async function send(path, body, only, after) {
  if (here.sending || away) {
    wait({ path, body, only, after });
    return;
  }
  here.sending = true;
  let said = null,
    lost = false;
  try {
    said = await post(path, body);
  } catch {
    lost = true;
  }
  here.sending = false;
  if (lost) {
    keep({ path, body, only, after });
    stayAway();
    return;
  }
  if (said?.selected) here.selected = said.selected;
  if (here.waiting.length) {
    const next = here.waiting.shift();
    if (after) after(said);
    await send(next.path, next.body, both(only, next.only), next.after);
    return;
  }
  if (said && (only || said.others?.length)) await refresh(said.others?.length ? undefined : only);
  if (after) after(said);
}
const NEWEST = ["change", "hour", "sun", "aim"]; // each says where things stand, not a step to take
const oneGesture = (a, b) =>
  a &&
  b &&
  a.path === b.path &&
  NEWEST.includes(a.path) &&
  a.body.gesture &&
  a.body.gesture === b.body.gesture;
const both = (a, b) =>
  [...new Set([a, b].filter(Boolean).join(",").split(","))].filter(Boolean).join(",");
const merged = (old, late) => ({
  path: late.path,
  body: { ...old.body, ...late.body, values: { ...old.body.values, ...late.body.values } },
  only: both(old.only, late.only),
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
      await send(next.path, next.body, next.only || ALL, next.after);
      notice("The server is back; the change is stored.");
    }
  }, 1500);
}
export function refresh(only) {
  const names = only || ALL;
  return htmx
    .ajax(
      "GET",
      `${root}panels?only=${names}&selected=${encodeURIComponent(here.selected)}&${lookQuery()}`,
      { target: main, swap: "none" },
    )
    .catch(() => {}); // without a server the page stays as it is
}
export const setValues = (values, note, only) =>
  send("change", { values, note, gesture: here.gesture }, only);

// A file goes in its turn, after the changes under way. What the server said, or nothing.
export async function sendFile(path, field, file, lost) {
  if (!file) return null;
  while (here.sending || here.waiting.length) await new Promise((r) => setTimeout(r, 60));
  const body = new FormData();
  body.append("base", here.revision);
  body.append(field, file);
  const answer = await fetch(`${root}${path}?${lookQuery()}`, {
    method: "POST",
    body,
    headers: { "X-Token": token },
  }).catch(() => null);
  const said = answer
    ? await answer.json().catch(() => ({}))
    : { error: `The server does not answer; ${lost}.` };
  if (answer?.ok) {
    answered(said);
    return said;
  }
  notice(said.error || "The file was refused.");
  return null;
}
