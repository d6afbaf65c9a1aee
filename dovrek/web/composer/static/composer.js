// The composer shows and points; every rule and computation is the server's.
export const main = document.getElementById("composer");
export const root = main.dataset.root, token = document.body.dataset.token;
export const look = { view: "picture", extent: 40, alone: "" }; // what this window shows
let revision = Number(main.dataset.revision), selected = main.dataset.selected;
let sending = false, waiting = [], gesture = "", gestureTimer = 0, away = 0;
export const $ = (id) => document.getElementById(id);
export const notice = (text) => window.dovrekNotice(text);
export const clamp = (v, low, high) => Math.min(Math.max(v, low), high);
export const newGesture = () => { gesture = Math.random().toString(36).slice(2, 12); };
export const now = () => ({ revision, selected, gesture, busy: sending || waiting.length > 0 });
export const lookQuery = () => `view=${look.view}&extent=${look.extent}&alone=${encodeURIComponent(look.alone)}`;
const ALL = "section,schedule,title,ribbon,overlay,advisories";
export function keyGesture() { // key presses in quick succession are one step
  if (!gestureTimer) newGesture();
  clearTimeout(gestureTimer);
  gestureTimer = setTimeout(() => { gestureTimer = 0; }, 900);
}

export function answered(said) { // what every change leads to, however it was sent
  if (said.revision !== undefined) revision = said.revision;
  if (said.others?.length) notice(`Another window changed ${said.others.slice(0, 4).join(", ")} meanwhile. Your change is laid on top; undo takes it back.`);
  if (said.note) notice(said.note);
  if (said.picture) inkIn(said, blobOf(said.picture.image));
}
async function post(path, body) {
  const before = $("quality").textContent; // until the picture of this change is here
  $("quality").textContent = "taking the change in";
  const answer = await fetch(`${root}${path}?${lookQuery()}`, {
    method: "POST", body: JSON.stringify({ base: revision, ...body }),
    headers: { "Content-Type": "application/json", "X-Token": token },
  });
  const said = await answer.json().catch(() => ({ error: "The server gave no readable answer." }));
  if (!answer.ok) { $("quality").textContent = before; notice(said.error); refresh(); return null; }
  if (said.revision === revision) $("quality").textContent = before;
  answered(said);
  return said;
}
// One request at a time; the others wait in their order, and of the values of one gesture only the
// newest go. What the server could not be told is kept and sent when it answers again.
export async function send(path, body, only, after) {
  if (sending || away) { wait({ path, body, only, after }); return; }
  sending = true;
  let said = null, lost = false;
  try { said = await post(path, body); } catch { lost = true; }
  sending = false;
  if (lost) { keep({ path, body, only, after }); stayAway(); return; }
  if (said?.selected) selected = said.selected;
  if (waiting.length) {
    const next = waiting.shift();
    if (after) after(said);
    await send(next.path, next.body, both(only, next.only), next.after);
    return;
  }
  if (said && (only || said.others?.length)) await refresh(said.others?.length ? undefined : only);
  if (after) after(said);
}
const NEWEST = ["change", "hour", "sun", "aim"]; // each says where things stand, not a step to take
const oneGesture = (a, b) => a && b && a.path === b.path && NEWEST.includes(a.path) && a.body.gesture && a.body.gesture === b.body.gesture;
const both = (a, b) => [...new Set([a, b].filter(Boolean).join(",").split(","))].filter(Boolean).join(",");
const merged = (old, late) => ({ path: late.path, body: { ...old.body, ...late.body, values: { ...old.body.values, ...late.body.values } },
  only: both(old.only, late.only), after: late.after || old.after });
function wait(change) {
  const last = waiting.at(-1);
  if (oneGesture(last, change)) waiting[waiting.length - 1] = merged(last, change);
  else waiting.push(change);
}
function keep(change) { // it was first, and stays so
  if (oneGesture(change, waiting[0])) waiting[0] = merged(change, waiting[0]);
  else waiting.unshift(change);
}
function stayAway() {
  notice("The server does not answer; the change is kept here and sent when it is back.");
  $("quality").textContent = "no connection; the change is kept";
  away = setTimeout(async () => {
    const there = await fetch(`${root}where`).then((r) => r.ok, () => false);
    if (!there) { stayAway(); return; }
    away = 0;
    const next = waiting.shift();
    if (next) { await send(next.path, next.body, next.only || ALL, next.after); notice("The server is back; the change is stored."); }
  }, 1500);
}
export function refresh(only) {
  const names = only || ALL;
  return htmx.ajax("GET", `${root}panels?only=${names}&selected=${encodeURIComponent(selected)}&${lookQuery()}`, { target: main, swap: "none" }).catch(() => {}); // without a server the page stays as it is
}
export const setValues = (values, note, only) => send("change", { values, note, gesture }, only);

// ---- schedule -------------------------------------------------------------------------
function fromPosition(row, at) {
  const low = Number(row.dataset.low), high = Number(row.dataset.high), u = at / 1000;
  return row.dataset.scale === "log" ? low * Math.pow(high / low, u) : low + (high - low) * u;
}
function toPosition(row, v) {
  const low = Number(row.dataset.low), high = Number(row.dataset.high);
  return 1000 * (row.dataset.scale === "log" ? Math.log(v / low) / Math.log(high / low) : (v - low) / (high - low));
}
function tidy(row, v) {
  const step = Number(row.dataset.step);
  if (row.dataset.kind === "integer") return Math.round(v);
  const grid = row.dataset.scale === "log" && v < 10 * step ? step / 10 : step;
  return clamp(Number((Math.round(v / grid) * grid).toPrecision(8)), Number(row.dataset.low), Number(row.dataset.high));
}
const shownAs = (row, v) => { const f = Number(row.dataset.factor || 1); return f === 1 ? v : Math.round(v / f); };
function setRow(row, value, only) {
  row.querySelector(".value").value = shownAs(row, value);
  row.querySelector(".range").value = toPosition(row, value);
  setValues({ [row.dataset.path]: value }, row.dataset.label, only);
}
main.addEventListener("pointerdown", (e) => { if (e.target.matches(".range")) newGesture(); });
main.addEventListener("input", (e) => {
  if (!e.target.matches(".range")) return;
  const row = e.target.closest(".row");
  const value = tidy(row, fromPosition(row, Number(e.target.value)));
  row.querySelector(".value").value = shownAs(row, value);
  setValues({ [row.dataset.path]: value }, row.dataset.label);
});
main.addEventListener("change", (e) => {
  const row = e.target.closest(".schedule .row");
  if (e.target.id === "sky-name") { newGesture(); setValues({ name: e.target.value }, "Rename", "title"); return; }
  if (!row) return;
  if (e.target.matches(".range")) { refresh(); return; }
  if (e.target.matches(".map-file")) { sendMap(row, e.target.files[0]); return; }
  newGesture();
  if (row.dataset.kind === "words") {
    const chosen = [...row.querySelectorAll(".switch:checked")].map((box) => box.value);
    setValues({ [row.dataset.path]: chosen }, row.dataset.label, ALL);
    return;
  }
  let value = e.target.type === "checkbox" ? e.target.checked : e.target.value.trim();
  if (e.target.matches(".value")) {
    const number = Number(value.replace(",", "."));
    value = value !== "" && Number.isFinite(number) ? number * Number(row.dataset.factor || 1) : value;
  }
  setValues({ [row.dataset.path]: value }, row.dataset.label, ALL);
});
main.addEventListener("keydown", (e) => {
  const row = e.target.closest?.(".schedule .row");
  if (!row || !e.target.matches(".range, .value") || row.dataset.low === undefined) return;
  const turn = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1, PageUp: 10, PageDown: -10 }[e.key];
  if (!turn || (e.target.matches(".value") && e.key.match(/Left|Right/))) return;
  const here = Number(row.querySelector(".value").value) * Number(row.dataset.factor || 1);
  if (!Number.isFinite(here)) return;
  e.preventDefault();
  keyGesture();
  const step = Number(row.dataset.step) * (e.shiftKey ? 10 : 1);
  setRow(row, tidy(row, clamp(here + turn * step, Number(row.dataset.low), Number(row.dataset.high))), "section,title,ribbon,overlay");
});
main.addEventListener("click", (e) => {
  const at = e.target.closest("[data-thing],[data-reset],[data-toggle],[data-duplicate],[data-remove],[data-add],[data-lock],[data-freeze],[data-deal],#undo,#redo,#order");
  if (!at) return;
  const d = at.dataset;
  newGesture();
  if (at.id === "undo" || at.id === "redo") send(at.id, {}, ALL);
  else if (at.id === "order") $("print-dialog").showModal();
  else if (d.thing) choose(d.thing);
  else if (d.add) { at.closest("details").open = false; send("layers", { genus: d.add }, ALL); }
  else if (d.toggle) setValues({ [`layers[${d.toggle}].visible`]: at.getAttribute("aria-pressed") !== "true" }, "Show or hide", "section,schedule,title");
  else if (d.lock) setValues({ [`layers[${d.lock}].locked`]: at.getAttribute("aria-pressed") !== "true" }, "Lock", ALL);
  else if (d.freeze) send(`layers/${d.freeze}/freeze`, { frozen: at.getAttribute("aria-pressed") !== "true" }, ALL);
  else if (d.deal) send(`layers/${d.deal}/deal`, { gesture: "" }, ALL);
  else if (d.duplicate) send(`layers/${d.duplicate}/duplicate`, {}, "section,schedule,title");
  else if (d.remove) send(`layers/${d.remove}/remove`, {}, "section,schedule,title");
  else if (d.reset !== undefined) {
    const row = at.closest(".row");
    if (d.reset === "curve") { setValues({ [row.dataset.path]: [] }, `Reset ${row.dataset.label}`, "schedule"); return; }
    setValues({ [row.dataset.path]: d.reset === "" ? null : Number(d.reset) }, `Reset ${row.dataset.label}`, "section,schedule,title");
  }
});
// A file goes in its turn, after the changes under way. What the server said, or nothing.
export async function sendFile(path, field, file, lost) {
  if (!file) return null;
  while (sending || waiting.length) await new Promise((r) => setTimeout(r, 60));
  const body = new FormData();
  body.append("base", revision);
  body.append(field, file);
  const answer = await fetch(`${root}${path}?${lookQuery()}`, { method: "POST", body, headers: { "X-Token": token } }).catch(() => null);
  const said = answer ? await answer.json().catch(() => ({})) : { error: `The server does not answer; ${lost}.` };
  if (answer?.ok) { answered(said); return said; }
  notice(said.error || "The file was refused.");
  return null;
}
async function sendMap(row, file) {
  const id = row.dataset.path.match(/layers\[([^\]]+)\]/)[1];
  await sendFile(`layers/${id}/map`, "picture", file, "the map is not stored");
  refresh("section,schedule,title");
}
main.addEventListener("click", (e) => {
  const at = e.target.closest("[data-unmap]");
  if (at) { newGesture(); setValues({ [at.dataset.unmap]: "" }, "Remove the map", "section,schedule,title"); }
});

// Groups, and the further acts of a layer, stay open or closed as they were left: as they stand
// in the page when a new panel comes. While the pointer is down in the panel it waits, so that
// no press is lost between down and up.
const folds = new Map(), FOLDS = "details.group, details.more-acts";
let pressed = "", held = false;
document.addEventListener("htmx:oobBeforeSwap", (e) => {
  const id = e.detail.target?.id;
  if (pressed && id === pressed) { e.detail.shouldSwap = false; held = true; return; }
  if (id !== "schedule") return;
  for (const fold of main.querySelectorAll(FOLDS)) folds.set(fold.dataset.group, fold.open);
});
main.addEventListener("pointerdown", (e) => { pressed = e.target.closest("#schedule, #title")?.id || ""; });
for (const end of ["pointerup", "pointercancel"]) window.addEventListener(end, () => {
  const panel = pressed;
  pressed = "";
  if (held) { held = false; setTimeout(() => refresh(panel), 0); }
});
function unfold() {
  for (const fold of main.querySelectorAll(FOLDS)) {
    if (folds.has(fold.dataset.group)) fold.open = folds.get(fold.dataset.group);
  }
  for (const svg of main.querySelectorAll("svg.curve")) drawCurve(svg);
}

// ---- curves ---------------------------------------------------------------------------
const pointsOf = (svg) => JSON.parse(svg.dataset.points);
function drawCurve(svg) {
  const points = pointsOf(svg), at = ([h, d]) => [200 * h, 60 * (1 - d)];
  svg.querySelector(".line").setAttribute("d", points.map((p, k) => `${k ? "L" : "M"}${at(p).join(" ")}`).join(""));
  const dots = [...svg.querySelectorAll("circle")];
  while (dots.length > points.length) dots.pop().remove();
  points.forEach((p, k) => {
    let dot = dots[k];
    if (!dot) {
      dot = document.createElementNS("http://www.w3.org/2000/svg", "circle");
      dot.setAttribute("r", 4.5); dot.setAttribute("tabindex", 0); dot.setAttribute("role", "slider");
      dot.setAttribute("aria-valuemin", 0); dot.setAttribute("aria-valuemax", 1);
      svg.append(dot);
    }
    dot.dataset.at = k;
    const [x, y] = at(p);
    dot.setAttribute("cx", x); dot.setAttribute("cy", y);
    dot.setAttribute("aria-label", `Height ${p[0].toFixed(2)}`);
    dot.setAttribute("aria-valuenow", p[1].toFixed(2));
    dot.setAttribute("aria-valuetext", `density ${p[1].toFixed(2)} at height ${p[0].toFixed(2)}`);
  });
}
function setCurve(svg, points, only) {
  svg.dataset.points = JSON.stringify(points);
  drawCurve(svg);
  const row = svg.closest(".row");
  setValues({ [row.dataset.path]: points }, row.dataset.label, only);
}
function movePoint(svg, k, h, d, only) {
  const points = pointsOf(svg), last = points.length - 1, two = (v) => Math.round(v * 100) / 100;
  const low = k ? points[k - 1][0] + 0.02 : 0, high = k < last ? points[k + 1][0] - 0.02 : 1;
  points[k] = [two(k === 0 ? 0 : k === last ? 1 : clamp(h, low, high)), two(clamp(d, 0, 1))];
  setCurve(svg, points, only);
}
function curvePlace(svg, e) {
  const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.getScreenCTM().inverse());
  return [p.x / 200, 1 - p.y / 60];
}
let curveDrag = null;
main.addEventListener("pointerdown", (e) => {
  const svg = e.target.closest?.("svg.curve");
  if (!svg || e.button) return;
  e.preventDefault();
  newGesture();
  const [h, d] = curvePlace(svg, e);
  let k = e.target.matches("circle") ? Number(e.target.dataset.at) : -1;
  if (k < 0) { // a press on the line makes a point
    const points = pointsOf(svg);
    if (points.length >= Number(svg.dataset.most) || points.some((p) => Math.abs(p[0] - h) < 0.03) || h <= 0 || h >= 1) return;
    k = points.findIndex((p) => p[0] > h);
    points.splice(k, 0, [h, d]);
    svg.dataset.points = JSON.stringify(points);
    movePoint(svg, k, h, d);
  }
  curveDrag = { svg, k };
  svg.setPointerCapture(e.pointerId);
});
main.addEventListener("pointermove", (e) => { if (curveDrag) movePoint(curveDrag.svg, curveDrag.k, ...curvePlace(curveDrag.svg, e)); });
main.addEventListener("pointerup", () => { curveDrag = null; });
main.addEventListener("keydown", (e) => {
  if (!e.target.matches?.("svg.curve circle")) return;
  const svg = e.target.closest("svg"), k = Number(e.target.dataset.at), points = pointsOf(svg);
  const turn = { ArrowUp: [0, 0.05], ArrowDown: [0, -0.05], ArrowRight: [0.05, 0], ArrowLeft: [-0.05, 0] }[e.key];
  if (turn) { e.preventDefault(); keyGesture(); movePoint(svg, k, points[k][0] + turn[0], points[k][1] + turn[1]); }
  else if (e.key === "Delete" && k && k < points.length - 1) { e.preventDefault(); newGesture(); points.splice(k, 1); setCurve(svg, points); }
});

export function choose(thing) {
  selected = thing;
  history.replaceState(null, "", `?selected=${encodeURIComponent(thing)}`);
  refresh("section,schedule");
}

// ---- section --------------------------------------------------------------------------
const scale = () => JSON.parse($("section").dataset.scale);
export function altitudeAt(y) {
  const table = scale();
  for (let i = 1; i < table.length; i++) {
    const [y1, a1] = table[i], [y0, a0] = table[i - 1];
    if (y >= y1 || i === table.length - 1) return a0 + (a1 - a0) * (y0 - y) / (y0 - y1);
  }
}
export function sectionY(e) {
  const svg = $("section").querySelector(":scope > svg");
  return new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.getScreenCTM().inverse()).y;
}
let drag = null;
main.addEventListener("pointerdown", (e) => {
  const band = e.target.closest?.(".band");
  if (!band || e.button) return;
  e.preventDefault();
  band.focus();
  newGesture();
  const y = sectionY(e);
  drag = { id: band.dataset.layer, edge: e.target.dataset.edge || "", y, moved: false, band,
    base: Number(band.dataset.base), thick: Number(band.dataset.thick), from: altitudeAt(y) };
  $("section").setPointerCapture(e.pointerId);
});
main.addEventListener("pointermove", (e) => {
  if (!drag) return;
  const y = sectionY(e), s = $("section").dataset;
  if (!drag.moved && Math.abs(y - drag.y) < 2) return;
  drag.moved = true;
  const by = altitudeAt(y) - drag.from, round = (v) => Math.round(v / 10) * 10;
  const base = (v) => clamp(round(v), Number(s.baseLow), Number(s.baseHigh));
  const thick = (v) => clamp(round(v), Number(s.thickLow), Number(s.thickHigh));
  const path = `layers[${drag.id}]`;
  let values, text;
  if (drag.edge === "top") { values = { [`${path}.thickness_m`]: thick(drag.thick + by) }; text = `top ${Math.round(drag.base + thick(drag.thick + by))} m`; }
  else if (drag.edge === "base") { const b = base(drag.base + by); values = { [`${path}.base_m`]: b, [`${path}.thickness_m`]: thick(drag.thick - (b - drag.base)) }; text = `base ${b} m`; }
  else { values = { [`${path}.base_m`]: base(drag.base + by) }; text = `base ${base(drag.base + by)} m`; drag.band.setAttribute("transform", `translate(0 ${y - drag.y})`); }
  $("drag-note").textContent = text;
  setValues(values, drag.edge === "top" ? "Thickness" : "Base");
});
main.addEventListener("pointerup", () => {
  if (!drag) return;
  const { moved, id } = drag;
  drag = null;
  selected = `layer:${id}`;
  const finish = () => refresh("section,schedule,title").then(() => main.querySelector(`.band[data-layer="${id}"]`)?.focus({ preventScroll: true }));
  if (moved && sending) waiting.length ? (waiting.at(-1).after = finish) : setTimeout(finish, 120); else finish();
});
main.addEventListener("keydown", (e) => {
  const band = e.target.closest?.(".band");
  if (!band || e.ctrlKey || e.metaKey) return;
  const id = band.dataset.layer, path = `layers[${id}]`, s = $("section").dataset;
  const refocus = () => main.querySelector(`.band[data-layer="${id}"]`)?.focus();
  if (e.key === "Enter" || e.key === " ") { e.preventDefault(); choose(`layer:${id}`); }
  else if (e.key === "ArrowUp" || e.key === "ArrowDown") {
    e.preventDefault();
    keyGesture();
    const by = (e.key === "ArrowUp" ? 1 : -1) * 50, thick = Number(band.dataset.thick), base = Number(band.dataset.base);
    const values = e.shiftKey ? { [`${path}.thickness_m`]: clamp(thick + by, Number(s.thickLow), Number(s.thickHigh)) }
      : { [`${path}.base_m`]: clamp(base + by, Number(s.baseLow), Number(s.baseHigh)) };
    send("change", { values, note: e.shiftKey ? "Thickness" : "Base", gesture }, "section,schedule,title", refocus);
  } else if (e.key.toLowerCase() === "d") { newGesture(); send(`layers/${id}/duplicate`, {}, "section,schedule,title"); }
  else if (e.key.toLowerCase() === "l") { e.stopPropagation(); newGesture(); send("change", { values: { [`${path}.locked`]: band.dataset.locked !== "true" }, note: "Lock", gesture }, "section,schedule,title", refocus); }
  else if (e.key.toLowerCase() === "h") { newGesture(); send("change", { values: { [`${path}.visible`]: band.dataset.visible !== "true" }, note: "Show or hide", gesture }, "section,schedule,title", refocus); }
  else if (e.key === "Delete") { newGesture(); send(`layers/${id}/remove`, {}, "section,schedule,title"); }
});

// ---- day ribbon -----------------------------------------------------------------------
let hourDrag = false;
function showHour(share) {
  const strip = $("strip"), minutes = Math.round(share * Number(strip.dataset.minutes));
  strip.dataset.share = share;
  $("now").setAttribute("x1", share * 1000); $("now").setAttribute("x2", share * 1000);
  $("clock").style.left = `${share * 100}%`;
  $("clock").textContent = `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
  strip.setAttribute("aria-valuenow", minutes);
  strip.setAttribute("aria-valuetext", $("clock").textContent);
}
function hourAt(e) {
  const box = $("strip").getBoundingClientRect();
  const share = clamp((e.clientX - box.left) / box.width, 0, 0.9993);
  showHour(share);
  send("hour", { share, gesture });
}
main.addEventListener("pointerdown", (e) => {
  if (!e.target.closest?.("#strip") || e.button) return;
  e.preventDefault();
  newGesture();
  hourDrag = true;
  $("strip").focus();
  $("ribbon").setPointerCapture(e.pointerId);
  hourAt(e);
});
main.addEventListener("pointermove", (e) => { if (hourDrag) hourAt(e); });
main.addEventListener("pointerup", () => { if (hourDrag) { hourDrag = false; setTimeout(() => refresh("schedule,title,ribbon").then(() => $("strip").focus()), 150); } });
main.addEventListener("keydown", (e) => {
  if (e.target.id !== "strip") return;
  const turn = { ArrowRight: 10, ArrowLeft: -10, ArrowUp: 10, ArrowDown: -10, PageUp: 60, PageDown: -60 }[e.key];
  if (!turn) return;
  e.preventDefault();
  keyGesture();
  const strip = e.target, by = turn * (e.shiftKey ? 6 : 1) / Number(strip.dataset.minutes);
  const share = clamp(Number(strip.dataset.share) + by, 0, 0.9993);
  showHour(share);
  send("hour", { share, gesture }, "title");
});
function place() { for (const mark of document.querySelectorAll("[data-at]")) mark.style.left = `${Number(mark.dataset.at) * 100}%`; }
document.addEventListener("htmx:afterSettle", place);
document.addEventListener("htmx:oobAfterSwap", place);
document.addEventListener("htmx:oobAfterSwap", (e) => { // no other panel's coming says how these stand
  if (e.detail.target?.id === "schedule" && e.detail.shouldSwap) unfold();
});
place();
unfold();

// ---- keys and dialogs -----------------------------------------------------------------
document.addEventListener("keydown", (e) => {
  const typing = e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
  const key = e.key.toLowerCase();
  if ((e.ctrlKey || e.metaKey) && (key === "z" || key === "y")) {
    if (typing && e.target.value !== e.target.defaultValue) return;
    e.preventDefault();
    send(key === "y" || e.shiftKey ? "redo" : "undo", {}, ALL);
  } else if (!typing && !e.ctrlKey && !e.metaKey && !document.querySelector("dialog[open]")) {
    if (e.key === "?") $("keys").showModal();
    else if (key === "p" && !e.target.closest?.(".band")) $("print-dialog").showModal();
  }
});
document.addEventListener("click", (e) => { if (e.target.closest("[data-close]")) e.target.closest("dialog").close(); });

// ---- picture --------------------------------------------------------------------------
export const canvas = $("picture");
const ink = canvas.getContext("2d");
let serial = 0, progress = -1, asking = null;
export function lookAnew() { // another view: its pictures count for themselves
  serial = 0; progress = -1;
  canvas.dataset.serial = 0;
  asking?.abort();
  $("quality").textContent = "turning to another view";
  refresh("overlay,schedule");
}
export function blobOf(encoded) {
  const text = atob(encoded), bytes = new Uint8Array(text.length);
  for (let k = 0; k < text.length; k++) bytes[k] = text.charCodeAt(k);
  return new Blob([bytes]);
}
async function paint(state) {
  if (state.picture.image) { await inkIn(state, blobOf(state.picture.image)); return; }
  const answer = await fetch(`${root}picture/${state.picture.serial}.png?${lookQuery()}`);
  if (answer.ok) await inkIn(state, await answer.blob());
}
async function inkIn(state, blob) {
  const bitmap = await createImageBitmap(blob);
  if (state.picture.serial < Number(canvas.dataset.serial || 0)) return;
  if (canvas.width !== bitmap.width || canvas.height !== bitmap.height) { canvas.width = bitmap.width; canvas.height = bitmap.height; }
  $("plate").style.setProperty("--aspect", bitmap.width / bitmap.height);
  ink.drawImage(bitmap, 0, 0);
  canvas.dataset.serial = state.picture.serial;
  canvas.dataset.revision = state.picture.revision;
  canvas.dataset.quality = state.picture.quality;
  canvas.dataset.painted = performance.now();
  document.dispatchEvent(new CustomEvent("painted", { detail: state.picture }));
  const lens = main.querySelector('[data-path="camera.lens_mm"] .value');
  $("numbers").textContent = `EV ${state.picture.ev.toFixed(1)}   ${state.picture.kelvins} K${lens ? `   ${lens.value} mm` : ""}`;
}
let judged = 0;
async function watch() {
  for (;;) {
    const asked = lookQuery();
    asking = new AbortController();
    try {
      const answer = await fetch(`${root}live?serial=${serial}&progress=${progress}&revision=${revision}&${asked}`, { signal: asking.signal });
      if (!answer.ok) throw new Error(answer.status);
      const state = await answer.json();
      if (asked !== lookQuery()) continue;
      progress = state.progress;
      if (state.fault) { notice(state.fault); await new Promise((r) => setTimeout(r, 1500)); }
      if (state.picture && state.picture.serial !== serial) { serial = state.picture.serial; await paint(state); }
      $("progress").value = state.progress;
      if (state.done && judged !== state.revision && !sending && !drag) { judged = state.revision; refresh("advisories,section"); }
      const size = state.picture ? ` ${state.picture.width} × ${state.picture.height}` : "";
      $("quality").textContent = state.done && state.picture ? `proof${size}`
        : state.picture ? `${state.picture.quality}${size} · ${state.stage}` : (state.warm ? state.stage : "warming up: the renderer is compiling, once per machine");
      if (state.revision && state.revision !== revision && !sending && !drag && !hourDrag) {
        await new Promise((r) => setTimeout(r, 60));
        if (state.revision !== revision && !sending) {
          revision = state.revision;
          notice("Another window changed this sky; this one shows it now.");
          refresh();
        }
      }
    } catch (fault) {
      if (fault.name === "AbortError") continue;
      canvas.dataset.serial = 0; // a server started anew counts its pictures anew
      $("quality").textContent = "no connection; trying again"; await new Promise((r) => setTimeout(r, 1500)); }
  }
}
watch();
