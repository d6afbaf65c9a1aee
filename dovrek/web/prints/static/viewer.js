// The viewer of a print: it says how the print is to be seen, and shows what the server makes.
const view = document.getElementById("viewer"),
  picture = document.getElementById("seen");
const find = (id) => document.getElementById(id);
const sight = { zoom: 0, x: 0.5, y: 0.5, stops: 0, around: 0, heading: 0, pitch: 10, lens: 28 };
let held = [0, 0];
let loading = false,
  stale = false;

function show() {
  stale = loading;
  if (loading) return; // one at a time; the last wish comes next
  loading = true;
  picture.src = `${picture.dataset.preview}?${new URLSearchParams(sight)}`;
  view.toggleAttribute("data-zoomed", sight.zoom > 0 || sight.around > 0);
  view.toggleAttribute("data-around", sight.around > 0);
}
for (const end of ["load", "error"])
  picture?.addEventListener(end, () => {
    loading = false;
    if (stale) show();
  });
function press(group, chosen) {
  for (const button of group) button.setAttribute("aria-pressed", String(button === chosen));
}
const zooms = document.querySelectorAll("[data-zoom]"),
  passes = document.querySelectorAll("[data-part]");
for (const button of zooms)
  button.addEventListener("click", () => {
    sight.zoom = Number(button.dataset.zoom);
    sight.around = 0;
    find("around")?.setAttribute("aria-pressed", "false");
    press(zooms, button);
    show();
  });
for (const button of passes)
  button.addEventListener("click", () => {
    const off = button.getAttribute("aria-pressed") === "true";
    sight.part = off ? "" : button.dataset.part;
    press(passes, off ? null : button);
    show();
  });
find("stops")?.addEventListener("input", (e) => {
  sight.stops = Number(e.target.value);
  e.target.nextElementSibling.value = e.target.value;
  show();
});
find("around")?.addEventListener("click", (e) => {
  sight.around = 1 - sight.around;
  e.target.setAttribute("aria-pressed", String(sight.around > 0));
  show();
});
function turn(right, down) {
  if (sight.around) {
    const degrees = (2 * Math.atan(18 / sight.lens) * 180) / Math.PI / view.clientWidth;
    sight.heading = (sight.heading + right * degrees + 360) % 360;
    sight.pitch = Math.max(-90, Math.min(90, sight.pitch - down * degrees));
  } else if (sight.zoom) {
    const [width, height] = view.dataset.size.split(" ").map(Number);
    sight.x = Math.max(0, Math.min(1, sight.x + right / sight.zoom / width));
    sight.y = Math.max(0, Math.min(1, sight.y + down / sight.zoom / height));
  } else return;
  show();
}
view?.addEventListener("pointerdown", (e) => {
  e.preventDefault();
  view.focus();
  view.setPointerCapture(e.pointerId);
  held = [e.clientX, e.clientY];
});
view?.addEventListener("pointermove", (e) => {
  if (!view.hasPointerCapture(e.pointerId)) return;
  turn(held[0] - e.clientX, held[1] - e.clientY);
  held = [e.clientX, e.clientY];
});
view?.addEventListener(
  "wheel",
  (e) => {
    if (!sight.around) return;
    e.preventDefault();
    sight.lens = Math.max(10, Math.min(200, sight.lens * (e.deltaY < 0 ? 1.1 : 1 / 1.1)));
    show();
  },
  { passive: false },
);
view?.addEventListener("keydown", (e) => {
  const step = { ArrowLeft: [-60, 0], ArrowRight: [60, 0], ArrowUp: [0, -60], ArrowDown: [0, 60] };
  if (!step[e.key]) return;
  e.preventDefault();
  turn(...step[e.key]);
});

// ---- numbered frames -----------------------------------------------------------------------
const names = [...document.querySelectorAll("#frames li")].map((line) => line.textContent);
let playing = 0;
function frame(k) {
  find("frame").value = String(k);
  sight.name = names[k];
  show();
}
find("frame")?.addEventListener("input", (e) => frame(Number(e.target.value)));
find("play")?.addEventListener("click", (e) => {
  if (playing) clearInterval(playing);
  playing = playing ? 0 : setInterval(() => {
    if (!loading) frame((Number(find("frame").value) + 1) % names.length);
  }, 80);
  e.target.setAttribute("aria-pressed", String(playing > 0));
});
