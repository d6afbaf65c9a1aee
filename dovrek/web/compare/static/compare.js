// Two pictures side by side, wiped, blinking, or their difference.
import { post } from "../shared/post.js";

const box = document.getElementById("compare"),
  d = box.dataset,
  root = d.root;
const byId = (id) => document.getElementById(id);
const still = matchMedia("(prefers-reduced-motion: reduce)");
let blinking = 0;

async function load(img, more = "") {
  img.classList.remove("ready");
  for (let tries = 0; tries < 30; tries++) {
    // a picture not yet made is asked for again
    const answer = await fetch(img.dataset.src + more).catch(() => null);
    if (answer?.ok) {
      img.src = URL.createObjectURL(await answer.blob());
      img.classList.add("ready");
      return;
    }
    if (answer && answer.status !== 503) {
      const said = await answer.json().catch(() => ({}));
      window.dovrekNotice(said.error || "A picture could not be made.");
      return;
    }
    await new Promise((r) => setTimeout(r, 800));
  }
}
function show(way) {
  d.way = way;
  clearInterval(blinking);
  box.querySelector('[data-side="second"]')?.classList.remove("under");
  if (way === "difference" && !byId("difference").src) load(byId("difference"));
  if (way === "blink") {
    let on = false;
    blinking = setInterval(
      () => {
        on = !on;
        box.classList.toggle("second-shown", on);
      },
      still.matches ? 2500 : 900,
    );
  } else box.classList.remove("second-shown");
  wipe();
}
function wipe() {
  box.style.setProperty("--wipe", `${byId("wipe")?.value || 50}%`);
}
byId("wipe")?.addEventListener("input", wipe);
for (const select of [byId("first"), byId("second")])
  select.addEventListener("change", () => byId("pair").submit());
for (const dot of document.querySelectorAll('#pair [name="way"]'))
  dot.addEventListener("change", () => {
    show(dot.value);
    const form = byId("frame-form");
    if (form) form.elements.way.value = dot.value;
    const url = new URL(location.href);
    url.searchParams.set("way", dot.value);
    history.replaceState(null, "", url);
  });
byId("mask")?.addEventListener("change", (e) => {
  for (const id of ["left", "right"])
    if (byId(id)) load(byId(id), e.target.checked ? "&mask=1" : "");
});
// The photograph's horizon: dragged or moved by keys, set when let go.
const lines = byId("lines"),
  line = byId("photo-horizon");
let held = false,
  settling = 0;
function lay(share) {
  line.dataset.share = Math.min(Math.max(share, 0.02), 1).toFixed(3);
  line.setAttribute("transform", `translate(0 ${lines.dataset.height * line.dataset.share})`);
  line.setAttribute("aria-valuenow", Math.round(100 * line.dataset.share));
  byId("f-horizon").value = Number(line.dataset.share).toFixed(2);
}
if (line) {
  lay(Number(line.dataset.share));
  const shareAt = (e) =>
    new DOMPoint(e.clientX, e.clientY).matrixTransform(lines.getScreenCTM().inverse()).y /
    lines.dataset.height;
  line.addEventListener("pointerdown", (e) => {
    e.preventDefault();
    line.focus();
    held = true;
    line.setPointerCapture(e.pointerId);
  });
  line.addEventListener("pointermove", (e) => {
    if (held) lay(shareAt(e));
  });
  line.addEventListener("pointerup", () => {
    if (held) {
      held = false;
      byId("frame-form").requestSubmit();
    }
  });
  line.addEventListener("keydown", (e) => {
    const by = { ArrowUp: -0.01, ArrowDown: 0.01, PageUp: -0.1, PageDown: 0.1 }[e.key];
    if (!by) return;
    e.preventDefault();
    lay(Number(line.dataset.share) + by);
    clearTimeout(settling);
    settling = setTimeout(() => byId("frame-form").requestSubmit(), 900);
  });
}
document.addEventListener("click", async (e) => {
  const at = e.target.closest("[data-take]");
  if (!at) return;
  const answer = await post(`${root}versions/${at.dataset.take}/take`, {
    base: Number(d.base),
  }).catch(() => null);
  if (answer?.ok) location.href = root;
  else window.dovrekNotice("The version could not be taken; reload the page.");
});
(async () => {
  await load(byId("left"));
  if (byId("right")) await load(byId("right"));
})();
show(d.way);
