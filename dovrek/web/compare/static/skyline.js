// The tops of what stands before the sky of a photograph: traced by hand or set part by part with
// keys; kept as heights (shares from the top) of equal parts of the width.
const byId = (id) => document.getElementById(id);
const lines = byId("lines"),
  line = byId("skyline"),
  form = byId("frame-form"),
  toggle = byId("trace"),
  clear = byId("trace-clear");
const PAGE = 0.1,
  STEP = 0.01,
  QUIET_MS = 900,
  AGAIN_MS = 3000;

if (line) {
  const parts = Number(line.dataset.parts),
    width = Number(lines.dataset.width),
    height = Number(lines.dataset.height),
    kept = form.elements.skyline.value;
  const heights = kept ? kept.split(",").map(Number) : Array(parts).fill(1);
  const across = (i) => (width * i) / parts;
  let part = parts >> 1,
    last = null,
    settling = 0;

  const say = () => {
    const share = Math.round(100 * heights[part]);
    line.setAttribute("aria-valuenow", share);
    line.setAttribute(
      "aria-valuetext",
      heights[part] < 1
        ? `part ${part + 1} of ${parts}: left out from ${share} % of the height down`
        : `part ${part + 1} of ${parts}: all sky`,
    );
  };
  const draw = () => {
    const end = Number(byId("f-horizon").value),
      given = heights.some((h) => h < 1);
    const tops = given
      ? heights
          .map(
            (h, i) => `${i ? "L" : "M"}${across(i)} ${height * Math.min(h, end)}H${across(i + 1)}`,
          )
          .join("")
      : "";
    line.querySelector(".left-out").setAttribute("d", given ? `${tops}V${height * end}H0Z` : "");
    for (const top of line.querySelectorAll(".tops")) top.setAttribute("d", tops);
    const at = line.querySelector(".part");
    at.setAttribute("x", across(part));
    at.setAttribute("y", height * heights[part]);
    at.setAttribute("height", height * (1 - heights[part]));
    form.elements.skyline.value = given ? heights.map((h) => h.toFixed(3)).join(",") : "";
    clear.hidden = !given;
    say();
  };
  const lay = (i, share) => {
    heights[i] = Math.min(Math.max(share, 0), 1);
  };
  const keep = async () => {
    const answer = await fetch(form.action, {
      method: "POST",
      body: new URLSearchParams(new FormData(form)),
      redirect: "manual",
    }).catch(() => null);
    if (!answer) {
      window.dovrekNotice("The server does not answer; the skyline is sent when it does.");
      later(AGAIN_MS);
      return;
    }
    if (answer.type !== "opaqueredirect") {
      const said = await answer.json().catch(() => ({}));
      window.dovrekNotice(said.error || "The skyline could not be kept; reload the page.");
      return;
    }
    window.htmx.trigger("#measures", "again"); // what was asked before the change is dropped
    if (byId("mask").checked) byId("mask").dispatchEvent(new Event("change"));
  };
  const later = (ms) => {
    clearTimeout(settling);
    settling = setTimeout(keep, ms);
  };
  const placeOf = (e) => {
    const at = new DOMPoint(e.clientX, e.clientY).matrixTransform(lines.getScreenCTM().inverse());
    return {
      x: Math.min(Math.max(Math.floor((parts * at.x) / width), 0), parts - 1),
      share: at.y / height,
    };
  };
  const stroke = (e) => {
    const to = placeOf(e),
      from = last || to,
      count = Math.abs(to.x - from.x);
    for (let k = 0; k <= count; k++) {
      const t = count ? k / count : 1;
      lay(from.x + Math.sign(to.x - from.x) * k, from.share + t * (to.share - from.share));
    }
    part = to.x;
    last = to;
    draw();
  };

  toggle.addEventListener("click", () => {
    const on = toggle.getAttribute("aria-pressed") !== "true";
    toggle.setAttribute("aria-pressed", on);
    lines.classList.toggle("tracing", on);
    byId("trace-hint").hidden = !on;
    if (on) line.focus();
  });
  clear.addEventListener("click", () => {
    heights.fill(1);
    draw();
    keep();
    toggle.focus();
  });
  line.addEventListener("pointerdown", (e) => {
    e.preventDefault();
    line.focus();
    line.setPointerCapture(e.pointerId);
    last = null;
    stroke(e);
  });
  line.addEventListener("pointermove", (e) => {
    if (last) for (const c of e.getCoalescedEvents?.() ?? [e]) stroke(c);
  });
  line.addEventListener("pointerup", () => {
    if (last) {
      last = null;
      keep();
    }
  });
  line.addEventListener("pointercancel", () => {
    if (last) {
      last = null;
      keep();
    }
  });
  line.addEventListener("keydown", (e) => {
    const up = { ArrowUp: -STEP, ArrowDown: STEP, PageUp: -PAGE, PageDown: PAGE }[e.key];
    const aside = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    const edge = { Home: 0, End: parts - 1 }[e.key];
    if (up === undefined && aside === undefined && edge === undefined && e.key !== "Delete") return;
    e.preventDefault();
    const before = heights[part];
    if (up !== undefined) lay(part, before + up);
    if (aside !== undefined) part = Math.min(Math.max(part + aside, 0), parts - 1);
    if (edge !== undefined) part = edge;
    if (aside !== undefined && e.shiftKey) lay(part, before); // the height is carried along
    if (e.key === "Delete") lay(part, 1);
    draw();
    if (up !== undefined || e.shiftKey || e.key === "Delete") later(QUIET_MS);
  });
  draw();
}
