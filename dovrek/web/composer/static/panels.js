// Panels come anew once what they show was touched; which those are, the server says.
import { here, lookQuery, main, root } from "./state.js";

const touched = new Set();
let coming = Promise.resolve(); // one answer at a time, so that no older one comes last
export function touch(...names) {
  for (const name of names) touched.add(name);
}
// While a hand holds something, or changes wait, panels stay: what was touched is remembered.
export function freshen() {
  if (here.held.size || here.sending || here.waiting.length) return coming;
  coming = coming.then(() => {
    if (!touched.size) return null;
    const names = [...touched];
    touched.clear();
    return ask(names.includes("all") ? null : names);
  });
  return coming;
}
export function release(hold) {
  here.held.delete(hold);
  return freshen();
}
// Marks of a picture that came under a moving hand.
export const follow = () => (coming = coming.then(() => ask(["painted"])));
let asked = null,
  askedAt = 0;
async function ask(names) {
  asked = names ?? ["all"];
  askedAt = here.told;
  const which = names ? `touched=${names.join(",")}&` : "";
  const selected = `selected=${encodeURIComponent(here.selected)}`;
  await htmx
    .ajax("GET", `${root}panels?${which}${selected}&${lookQuery()}`, { target: main, swap: "none" })
    .catch(() => {}); // without a server the page stays as it is
}

// What had the focus in a panel has it again in the panel that takes its place.
const MARKS = "path layer thing toggle lock freeze deal duplicate remove reset strip at".split(" ");
const quoted = (text) => `"${CSS.escape(text)}"`;
function seat(element) {
  if (element.id) return `#${CSS.escape(element.id)}`;
  const known = MARKS.filter((m) => element.dataset[m] !== undefined && m !== "reset");
  const own = known.map((m) => `[data-${m}=${quoted(element.dataset[m])}]`).join("");
  const kind = element.classList[0] ? `.${CSS.escape(element.classList[0])}` : "";
  const outer = element.parentElement.closest("[data-path], [data-layer]");
  return `${outer ? `${seat(outer)} ` : ""}${element.localName}${kind}${own}`;
}
function seated(element, all) {
  element?.focus({ preventScroll: true });
  if (all && element?.matches("input")) element.select();
}
// A panel of the same thing stays where it was scrolled to.
let left = "",
  whole = false, // all of its text was chosen: what is typed next takes its place
  top = 0,
  shown = here.selected;
document.addEventListener("htmx:oobBeforeSwap", (e) => {
  const held = document.activeElement,
    panel = e.detail.target;
  left = panel?.contains(held) ? seat(held) : "";
  // a field of numbers does not say what is chosen: as it stands, all is
  const from = held?.selectionStart ?? 0,
    to = held?.selectionEnd ?? held?.value?.length;
  whole = Boolean(left && held.matches("input") && held.value && !from && to === held.value.length);
  top = shown === here.selected ? panel?.scrollTop || 0 : 0;
});
document.addEventListener("htmx:oobAfterSwap", (e) => {
  if (top) document.getElementById(e.detail.target?.id)?.scrollTo(0, top);
  if (left) {
    const place = left,
      all = whole;
    const sit = () => {
      if (document.activeElement === document.body) seated(main.querySelector(place), all);
    };
    sit();
    queueMicrotask(sit); // what the panel came without, others have drawn and unfolded by then
  }
  if (e.detail.target?.id === "schedule") shown = here.selected;
  left = "";
});

// While the pointer is down in a panel, or a field in it is half typed, it waits: no press is lost
// between down and up, and no word before it is entered.
let pressed = "",
  typed = null,
  missed = false;
document.addEventListener("htmx:oobBeforeSwap", (e) => {
  const panel = e.detail.target;
  // changed again since it was asked: what it shows is of before, and keys would go on from there
  const changed = here.sending || here.waiting.length || here.told !== askedAt;
  const late = changed && !asked?.includes("painted");
  if (late) {
    touch(...(asked ?? ["all"]));
    setTimeout(freshen, 0);
  } else if (!(pressed && panel?.id === pressed) && !(typed && panel?.contains(typed))) return;
  e.detail.shouldSwap = false;
  if (late) return;
  missed = true;
});
function catchUp() {
  if (!missed || pressed || typed?.isConnected) return;
  missed = false;
  touch("all");
  setTimeout(freshen, 0);
}
main.addEventListener("pointerdown", (e) => {
  pressed = e.target.closest("#schedule, #title, #clip")?.id || "";
});
for (const end of ["pointerup", "pointercancel"])
  window.addEventListener(end, () => {
    pressed = "";
    catchUp();
  });
main.addEventListener("input", (e) => {
  if (e.target.matches("input:not([type=range], [type=checkbox], [type=file]), textarea"))
    typed = e.target;
});
for (const end of ["change", "focusout"])
  main.addEventListener(end, (e) => {
    if (e.target !== typed) return;
    typed = null;
    catchUp();
  });
