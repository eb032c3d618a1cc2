// A tree: the rows below another are read when it is opened.
import { announce } from "./announcer.js";
import { isPlainClick, piece, text } from "./dom.js";

const depth = (row) => Number(row?.dataset.level ?? -1);

export async function toggle(opener) {
  if (opener.hasAttribute("aria-busy")) return;
  const row = opener.closest("tr");
  const level = Number(opener.dataset.open);
  const mark = (open) => {
    opener.setAttribute("aria-expanded", String(open));
    row.setAttribute("aria-expanded", String(open));
  };
  if (opener.getAttribute("aria-expanded") === "true") {
    mark(false);
    while (row.nextElementSibling && depth(row.nextElementSibling) >= level) {
      row.nextElementSibling.remove();
    }
    return;
  }
  const address = new URL(opener.href);
  address.searchParams.set("level", level);
  opener.setAttribute("aria-busy", "true");
  const answer = await piece(address);
  if (!answer.ok || answer.redirected) return window.location.assign(opener.href);
  const made = document.createElement("template");
  made.innerHTML = await answer.text();
  opener.removeAttribute("aria-busy");
  mark(true);
  const rows = [...made.content.querySelectorAll("tr")];
  row.after(...rows);
  row.closest("table").dispatchEvent(new CustomEvent("rows-added", { bubbles: true }));
  announce(text("rows", rows.length));
}

document.addEventListener("click", (event) => {
  const opener = event.target.closest("a[data-open]");
  if (!opener || !isPlainClick(event)) return;
  event.preventDefault();
  toggle(opener);
});
