// Test strips and contact sheets: order, fill as the pictures come, choose by hand or by key.
import { post } from "../shared/post.js";
import { answered } from "./changes.js";
import { freshen } from "./panels.js";
import { $, blobOf, inSight, lookQuery, main, newGesture, notice, now, root } from "./state.js";

const panel = $("board-panel");
let follow = 0,
  wanted = null,
  asking = null;
function leave() {
  follow++;
  asking?.abort();
  asking = null;
  return follow;
} // a browser has few connections to spare
async function order(path, body) {
  const mine = leave();
  const answer = await post(`${root}${path}?${lookQuery()}`, body).catch(() => null);
  if (!answer) {
    notice("The server does not answer; try the strip again.");
    return;
  }
  const text = await answer.text();
  if (!answer.ok) {
    try {
      notice(JSON.parse(text).error);
    } catch {
      notice("The strip could not be ordered.");
    }
    return;
  }
  const hand = typing && { id: typing.id, low: $("range-low").value, high: $("range-high").value };
  typing = null; // what goes away was not left by the hand
  panel.innerHTML = text;
  panel.dataset.ordered = performance.now();
  const board = $("board"),
    frames = board.querySelector(".frames");
  if (frames.dataset.columns) frames.style.setProperty("--columns", frames.dataset.columns);
  if (path === "strip") rangeOf();
  if (!hand || !typeOn(hand))
    (board.querySelector('[aria-selected="true"]') || board.querySelector(".frame")).focus();
  fill(board.dataset.board, mine);
}
async function fill(number, mine) {
  const have = new Set();
  while (mine === follow) {
    await inSight();
    asking = new AbortController();
    const answer = await fetch(`${root}boards/${number}?have=${[...have].join(",")}`, {
      signal: asking.signal,
    }).catch(() => null);
    if (mine !== follow) return;
    if (!answer?.ok) {
      if (answer?.status === 404) {
        notice("These pictures are no longer kept; order the strip again.");
        return;
      }
      await new Promise((r) => setTimeout(r, 1200));
      continue;
    }
    const said = await answer.json().catch(() => null); // left while it came
    if (!said) continue;
    for (const frame of said.frames) {
      have.add(frame.index);
      const button = panel.querySelector(`[data-frame="${frame.index}"]`);
      if (!button) return;
      if (frame.png) {
        const img = button.querySelector("img");
        img.src = URL.createObjectURL(blobOf(frame.png));
        img.hidden = false;
      } else button.title = frame.fault;
      button.dataset.ready = performance.now();
    }
    if (said.done) return;
  }
}
function close() {
  const board = $("board");
  leave();
  if (board) post(`${root}boards/${board.dataset.board}/drop`, {});
  panel.innerHTML = "";
  wanted = null;
}
async function take(button) {
  newGesture();
  const number = $("board").dataset.board;
  const answer = await post(`${root}boards/${number}/choose?${lookQuery()}`, {
    base: now().revision,
    index: Number(button.dataset.frame),
    gesture: "",
  }).catch(() => null);
  const said = answer
    ? await answer.json().catch(() => ({}))
    : { error: "The server does not answer; choose again when it is back." };
  if (!answer?.ok) {
    notice(said.error || "This could not be taken.");
    return;
  }
  for (const b of panel.querySelectorAll(".frame")) b.setAttribute("aria-selected", b === button);
  answered(said);
  freshen();
}
// A strip's range: the whole of the control, about its value, or as typed.
function rangeOf() {
  const row = main.querySelector(`[data-path="${CSS.escape(wanted.path)}"]`);
  if (!row || row.dataset.low === undefined || wanted.other) return;
  const f = Number(row.dataset.factor || 1),
    text = (v) => (f === 1 ? v : Math.round(v / f));
  const low = wanted.low ?? Number(row.dataset.low),
    high = wanted.high ?? Number(row.dataset.high);
  $("board-range").innerHTML = `<button type="button" data-range="all">Whole range</button>
    <button type="button" data-range="near">About its value</button>
    <label>from <input id="range-low" inputmode="decimal" size="6"></label>
    <label>to <input id="range-high" inputmode="decimal" size="6"></label>`;
  if (!wanted.near) {
    $("range-low").value = text(low);
    $("range-high").value = text(high);
  }
  $("board-range").dataset.factor = f;
}
panel.addEventListener("click", (e) => {
  const frame = e.target.closest(".frame"),
    range = e.target.closest("[data-range]");
  if (frame) take(frame);
  else if (e.target.closest("#board-close")) close();
  else if (range) {
    wanted = { path: wanted.path, near: range.dataset.range === "near" };
    order("strip", wanted);
  }
});
// Both ends are one entry: a strip is ordered when it is left, or with Enter. A board that comes
// while an end is being typed lets the hand type on, for Enter over a frame would choose it.
let typing = null;
const END = "#range-low, #range-high";
panel.addEventListener("input", (e) => {
  if (e.target.matches(END)) typing = e.target;
});
panel.addEventListener("focusout", (e) => {
  if (!typing || !e.target.isConnected || e.relatedTarget?.matches(END)) return;
  typed();
});
function typeOn(hand) {
  typing = $(hand.id);
  if (!typing) return false; // this board has no ends
  $("range-low").value = hand.low;
  $("range-high").value = hand.high;
  typing.focus();
  return true;
}
function typed() {
  typing = null;
  const f = Number($("board-range").dataset.factor),
    low = Number($("range-low").value.replace(",", ".")) * f,
    high = Number($("range-high").value.replace(",", ".")) * f;
  if (
    Number.isFinite(low) &&
    Number.isFinite(high) &&
    $("range-low").value &&
    $("range-high").value
  ) {
    wanted = { path: wanted.path, low, high };
    order("strip", wanted);
  }
}
panel.addEventListener("keydown", (e) => {
  if (e.key === "Escape") {
    close();
    return;
  }
  if (e.key === "Enter" && e.target.matches(END)) {
    e.preventDefault();
    typed();
    return;
  }
  const frame = e.target.closest?.(".frame");
  const step = {
    ArrowRight: 1,
    ArrowLeft: -1,
    ArrowDown: Number($("board")?.dataset.columns),
    ArrowUp: -Number($("board")?.dataset.columns),
  }[e.key];
  if (!frame || !step) return;
  e.preventDefault();
  panel.querySelector(`[data-frame="${Number(frame.dataset.frame) + step}"]`)?.focus();
});
export function strip(path, second) {
  wanted = second && wanted && wanted.path !== path ? { path: wanted.path, other: path } : { path };
  order("strip", wanted);
}
main.addEventListener("click", (e) => {
  const mark = e.target.closest("[data-strip]"),
    sheet = e.target.closest("[data-sheet]");
  if (mark) strip(mark.dataset.strip, e.shiftKey);
  else if (sheet) {
    wanted = null;
    sheet.closest("details")?.removeAttribute("open");
    order("sheet", { kind: sheet.dataset.sheet, layer: sheet.dataset.layer || "" });
  }
});
main.addEventListener("keydown", (e) => {
  const row = e.target.closest?.(".schedule .row");
  if (
    !row ||
    e.ctrlKey ||
    e.metaKey ||
    e.key.toLowerCase() !== "t" ||
    e.target.matches("input.word, .curve circle")
  )
    return;
  const mark = row.querySelector("[data-strip]");
  if (mark) {
    e.preventDefault();
    strip(mark.dataset.strip, e.shiftKey);
  }
});
