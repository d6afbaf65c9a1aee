// The light under the pointer.
import { $, here, lookQuery, now, root } from "./state.js";

let hoverTimer = 0,
  hoverAt = null;
export function hover(place) {
  hoverAt = place;
  if (!hoverTimer) hoverTimer = setTimeout(readLight, 90);
}
$("plate").addEventListener("pointerleave", () => {
  hoverAt = null;
  $("readout").textContent = "";
});
async function readLight() {
  hoverTimer = 0;
  if (!hoverAt || here.held.size || now().busy) return;
  const [u, v] = hoverAt;
  if (u < 0 || v < 0 || u > 1 || v > 1) return;
  const r = await fetch(`${root}reading?u=${u.toFixed(4)}&v=${v.toFixed(4)}&${lookQuery()}`)
    .then((a) => (a.ok ? a.json() : null))
    .catch(() => null);
  if (!r || !hoverAt) return;
  const feet = document.body.dataset.units === "feet",
    far = (m) =>
      feet
        ? `${Math.round(m / 0.3048)} ft`
        : m < 3000
          ? `${Math.round(m)} m`
          : `${(m / 1000).toFixed(1)} km`;
  const cd =
    r.luminance_cd_m2 >= 10 ? Math.round(r.luminance_cd_m2) : r.luminance_cd_m2.toPrecision(2);
  const stops = `${r.stops >= 0 ? "+" : ""}${r.stops.toFixed(1)}`;
  const place =
    r.altitude_m === undefined ? "" : ` at ${far(r.altitude_m)}, ${far(r.distance_m)} away`;
  $("readout").textContent = `${cd} cd/m² · EV ${r.ev} (${stops}) · ${r.what}${place}`;
  $("readout").dataset.layer = r.layer || "";
}
