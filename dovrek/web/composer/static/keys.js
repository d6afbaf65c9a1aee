// Keys and dialogs of the whole page.
import { openOrder } from "../prints/order.js";
import { send } from "./changes.js";
import { $ } from "./state.js";

// What was sent is no longer being typed: undo takes back the change, not its letters.
const halfTyped = (at) => at.matches?.("input, textarea") && at.value !== at.defaultValue;
document.addEventListener("change", (e) => {
  if (e.target.defaultValue !== undefined) e.target.defaultValue = e.target.value;
});
document.addEventListener("keydown", (e) => {
  const typing = e.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
  const key = e.key.toLowerCase();
  if ((e.ctrlKey || e.metaKey) && (key === "z" || key === "y")) {
    if (typing && halfTyped(e.target)) return;
    e.preventDefault();
    send(key === "y" || e.shiftKey ? "redo" : "undo", {});
  } else if (!typing && !e.ctrlKey && !e.metaKey && !document.querySelector("dialog[open]")) {
    if (e.key === "?") $("keys").showModal();
    else if (key === "p" && !e.target.closest?.(".band")) openOrder();
  }
});
document.addEventListener("click", (e) => {
  if (e.target.closest("[data-close]")) e.target.closest("dialog").close();
});
