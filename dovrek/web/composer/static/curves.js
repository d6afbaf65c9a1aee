// Curves of the schedule: points dragged, added, moved by keys.
import { setValues } from "./changes.js";
import { release } from "./panels.js";
import { clamp, here, keyGesture, main, newGesture } from "./state.js";

const pointsOf = (svg) => JSON.parse(svg.dataset.points);
export function drawCurve(svg) {
  const points = pointsOf(svg),
    at = ([h, d]) => [200 * h, 60 * (1 - d)];
  svg
    .querySelector(".line")
    .setAttribute("d", points.map((p, k) => `${k ? "L" : "M"}${at(p).join(" ")}`).join(""));
  const dots = [...svg.querySelectorAll("circle")];
  while (dots.length > points.length) dots.pop().remove();
  points.forEach((p, k) => {
    let dot = dots[k];
    if (!dot) {
      dot = document.createElementNS("http://www.w3.org/2000/svg", "circle");
      dot.setAttribute("r", 4.5);
      dot.setAttribute("tabindex", 0);
      dot.setAttribute("role", "slider");
      dot.setAttribute("aria-valuemin", 0);
      dot.setAttribute("aria-valuemax", 1);
      svg.append(dot);
    }
    dot.dataset.at = k;
    const [x, y] = at(p);
    dot.setAttribute("cx", x);
    dot.setAttribute("cy", y);
    dot.setAttribute("aria-label", `Height ${p[0].toFixed(2)}`);
    dot.setAttribute("aria-valuenow", p[1].toFixed(2));
    dot.setAttribute("aria-valuetext", `density ${p[1].toFixed(2)} at height ${p[0].toFixed(2)}`);
  });
}
function setCurve(svg, points) {
  svg.dataset.points = JSON.stringify(points);
  drawCurve(svg);
  const row = svg.closest(".row");
  setValues({ [row.dataset.path]: points }, row.dataset.label);
}
function movePoint(svg, k, h, d) {
  const points = pointsOf(svg),
    last = points.length - 1,
    two = (v) => Math.round(v * 100) / 100;
  const low = k ? points[k - 1][0] + 0.02 : 0,
    high = k < last ? points[k + 1][0] - 0.02 : 1;
  points[k] = [two(k === 0 ? 0 : k === last ? 1 : clamp(h, low, high)), two(clamp(d, 0, 1))];
  setCurve(svg, points);
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
  if (k < 0) {
    // a press on the line makes a point
    const points = pointsOf(svg);
    if (
      points.length >= Number(svg.dataset.most) ||
      points.some((p) => Math.abs(p[0] - h) < 0.03) ||
      h <= 0 ||
      h >= 1
    )
      return;
    k = points.findIndex((p) => p[0] > h);
    points.splice(k, 0, [h, d]);
    svg.dataset.points = JSON.stringify(points);
    movePoint(svg, k, h, d);
  }
  curveDrag = { svg, k };
  here.held.add("curve");
  svg.setPointerCapture(e.pointerId);
});
main.addEventListener("pointermove", (e) => {
  if (curveDrag) movePoint(curveDrag.svg, curveDrag.k, ...curvePlace(curveDrag.svg, e));
});
main.addEventListener("pointerup", () => {
  curveDrag = null;
  if (here.held.has("curve")) release("curve");
});
main.addEventListener("keydown", (e) => {
  if (!e.target.matches?.("svg.curve circle")) return;
  const svg = e.target.closest("svg"),
    k = Number(e.target.dataset.at),
    points = pointsOf(svg);
  const turn = {
    ArrowUp: [0, 0.05],
    ArrowDown: [0, -0.05],
    ArrowRight: [0.05, 0],
    ArrowLeft: [-0.05, 0],
  }[e.key];
  if (turn) {
    e.preventDefault();
    keyGesture();
    movePoint(svg, k, points[k][0] + turn[0], points[k][1] + turn[1]);
  } else if (e.key === "Delete" && k && k < points.length - 1) {
    e.preventDefault();
    newGesture();
    points.splice(k, 1);
    setCurve(svg, points);
  }
});
