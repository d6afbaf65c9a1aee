// Layers in hand, versions and recipes from the composer, the help line, the board's look.
import { post } from "../shared/post.js";
import { send, setValues } from "./changes.js";
import { choose } from "./schedule.js";
import { altitudeAt, sectionY } from "./section.js";
import { $, clamp, main, newGesture, notice, now, press, root } from "./state.js";

async function ask(path, body) {
  const answer = await post(root + path, body).catch(() => null);
  const said = answer
    ? await answer.json().catch(() => ({}))
    : { error: "The server does not answer; nothing was kept." };
  notice(answer?.ok ? said.note || "" : said.error || "This could not be done.");
  return answer?.ok ? said : null;
}
let layer = "";
main.addEventListener("click", async (e) => {
  const at = e.target.closest(
    "[data-copy],[data-recipe],[data-deals],[data-earlier],[data-mend]," +
      "#keep-version,#insert,#night,#feet,#hint-off",
  );
  if (!at) return;
  at.closest("details.more-acts")?.removeAttribute("open");
  const d = at.dataset;
  if (at.id === "keep-version") openVersion();
  else if (at.id === "insert") showRail($("rail").hidden);
  else if (at.id === "night") setBoard(document.documentElement.dataset.board !== "night");
  else if (at.id === "feet") {
    cookie("units", document.body.dataset.units === "feet" ? "metres" : "feet");
    location.reload();
  } else if (at.id === "hint-off") {
    cookie("hint", "off");
    $("hint-line").hidden = true;
  } else if (d.mend) {
    newGesture();
    setValues(JSON.parse(d.mend), d.note);
  } else if (d.copy) {
    layer = d.copy;
    for (const o of $("copy-to").options) o.hidden = o.disabled = o.value === layer;
    $("copy-to").value = [...$("copy-to").options].find((o) => !o.disabled)?.value;
    $("copy-dialog").showModal();
  } else if (d.recipe) {
    layer = d.recipe;
    $("recipe-what").value = "layer";
    $("recipe-name").value = main.querySelector(".schedule h2").textContent;
    $("recipe-dialog").showModal();
  } else if (d.deals) earlier(d.deals);
  else if (d.earlier) {
    newGesture();
    send(`layers/${d.layer}/deal`, { seed: Number(d.earlier), gesture: "" });
  }
});
async function earlier(id) {
  const said = await fetch(`${root}layers/${id}/seeds`)
    .then((r) => r.json())
    .catch(() => ({ seeds: [] }));
  const line = $(`deals-of-${id}`);
  if (!line) return;
  line.replaceChildren(
    "Earlier deals: ",
    ...said.seeds.flatMap((seed) => {
      const b = document.createElement("button");
      b.type = "button";
      b.textContent = seed;
      b.dataset.earlier = seed;
      b.dataset.layer = id;
      return [b, " "];
    }),
  );
  if (said.seeds.length < 2) line.append("none before this one yet.");
}
function openVersion() {
  $("version-name").value = "";
  $("version-dialog").showModal();
}
$("version-dialog").addEventListener("submit", () =>
  ask("versions", { name: $("version-name").value }),
);
$("recipe-dialog").addEventListener("submit", () =>
  ask("recipes", {
    layer: $("recipe-what").value === "layer" ? layer : "",
    name: $("recipe-name").value,
    notes: $("recipe-notes").value,
  }),
);
$("copy-dialog").addEventListener("submit", () => {
  const parts = [...$("copy-dialog").querySelectorAll(".switch:checked")].map((b) => b.value);
  newGesture();
  send(`layers/${layer}/copy`, { to: $("copy-to").value, parts, gesture: now().gesture });
});

// ---- recipes, dropped on the section or given a base -----------------------------------
let recipe = null,
  carried = null;
function insertRecipe(base) {
  newGesture();
  send(`recipes/${recipe.insert}/insert`, { base_m: base }, (said) => {
    if (said?.selected) choose(said.selected);
  });
}
async function showRail(on) {
  const rail = $("rail");
  if (on)
    rail.innerHTML = await fetch(`${root}recipes`)
      .then((r) => (r.ok ? r.text() : ""))
      .catch(() => "");
  rail.hidden = !on || !rail.innerHTML;
  if (on && rail.hidden) notice("The recipes could not be read; the server does not answer.");
  $("insert").setAttribute("aria-expanded", !rail.hidden);
  if (!rail.hidden) rail.querySelector(".slip")?.focus();
}
function askBase() {
  $("insert-title").textContent = `Insert ${recipe.name}`;
  $("insert-base").value = "";
  $("insert-base").placeholder = recipe.base;
  $("insert-dialog").showModal();
}
$("insert-dialog").addEventListener("submit", () => {
  const base = $("insert-base").value;
  insertRecipe(base === "" ? null : Number(base));
});
function baseUnder(e) {
  // where the pointer stands on the section, or nothing
  const s = $("section").dataset,
    box = $("section").querySelector(":scope > svg").getBoundingClientRect();
  if (
    e.clientX < box.left ||
    e.clientX > box.right ||
    e.clientY < box.top ||
    e.clientY > box.bottom
  )
    return null;
  return clamp(
    Math.round(altitudeAt(sectionY(e)) / 10) * 10,
    Number(s.baseLow),
    Number(s.baseHigh),
  );
}
function markDrop(e) {
  const base = e && baseUnder(e);
  $("drop-mark").setAttribute("d", base === null || !e ? "" : `M40 ${sectionY(e)}h162`);
  $("drag-note").textContent = base === null || !e ? "" : `base ${base} m`;
  return base;
}
$("rail").addEventListener("pointerdown", (e) => {
  const card = e.target.closest(".slip");
  if (!card || e.button) return;
  carried = { data: { ...card.dataset }, x: e.clientX, y: e.clientY, moved: false };
  card.setPointerCapture(e.pointerId);
});
$("rail").addEventListener("pointermove", (e) => {
  if (!carried || (!carried.moved && Math.hypot(e.clientX - carried.x, e.clientY - carried.y) < 5))
    return;
  carried.moved = true;
  $("rail").classList.add("carrying");
  markDrop(e);
});
$("rail").addEventListener("pointerup", (e) => {
  if (!carried?.moved) {
    carried = null;
    return;
  }
  const base = markDrop(e);
  recipe = carried.data;
  setTimeout(() => {
    carried = null;
  }, 0); // the click that follows is part of the drag
  $("rail").classList.remove("carrying");
  markDrop(null);
  if (base !== null) insertRecipe(base);
});
$("rail").addEventListener("pointercancel", () => {
  carried = null;
  $("rail").classList.remove("carrying");
  markDrop(null);
});
$("rail").addEventListener("click", (e) => {
  const card = e.target.closest(".slip");
  if (e.target.closest("#rail-close")) {
    showRail(false);
    $("insert").focus();
  } else if (card && !carried) {
    recipe = { ...card.dataset };
    askBase();
  }
});
$("rail").addEventListener("keydown", (e) => {
  if (e.key === "Escape") {
    showRail(false);
    $("insert").focus();
  }
});

$("hint-on").addEventListener("click", () => {
  cookie("hint", "on");
  $("hint-line").hidden = false;
  $("keys").close();
});

// A control's sentence, where the hand or the focus is.
function help(e) {
  const row = e.target.closest?.(".schedule .row");
  const line = $("help-line");
  if (line) line.textContent = row ? row.querySelector(".sr")?.textContent || "" : "";
}
main.addEventListener("pointerover", help);
main.addEventListener("focusin", help);

function cookie(name, value) {
  document.cookie = `${name}=${value};path=/;max-age=31536000;samesite=strict`;
}
function setBoard(night) {
  document.documentElement.dataset.board = night ? "night" : "day";
  cookie("board", night ? "night" : "day");
  press("night", night);
  $("night").textContent = night ? "Day" : "Night";
}
document.addEventListener("keydown", (e) => {
  if (
    e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea") ||
    e.ctrlKey ||
    e.metaKey ||
    document.querySelector("dialog[open]")
  )
    return;
  const key = e.key.toLowerCase();
  if (key === "v") {
    e.preventDefault();
    openVersion();
  } else if (key === "c") location.href = `${root}compare`;
});
