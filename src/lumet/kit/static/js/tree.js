// Rows that are opened: those below another in a tree, and the related records of a row,
// are read then.
import { announce } from "./announcer.js";
import { isPlainClick, piece, text } from "./dom.js";

const depth = (row) => Number(row?.dataset.level ?? -1);

async function read(opener, address) {
  opener.setAttribute("aria-busy", "true");
  const answer = await piece(address);
  if (!answer.ok || answer.redirected) {
    window.location.assign(opener.href);
    return null;
  }
  const made = document.createElement("template");
  made.innerHTML = await answer.text();
  opener.removeAttribute("aria-busy");
  return made.content;
}

// The related records of a row stand in a row of their own below it.
async function toggleChildren(opener) {
  const row = opener.closest("tr");
  const isOpen = opener.getAttribute("aria-expanded") === "true";
  if (isOpen) {
    row.nextElementSibling.remove();
  } else {
    const found = await read(opener, opener.href);
    if (!found) return;
    const below = document.createElement("tr");
    below.className = "children";
    const cell = below.insertCell();
    cell.colSpan = row.cells.length;
    cell.append(found);
    cell.querySelector("header .acts")?.remove();
    row.after(below);
    announce(text("rows", cell.querySelectorAll("tbody tr").length));
  }
  opener.setAttribute("aria-expanded", String(!isOpen));
  row.closest("table").dispatchEvent(new CustomEvent("rows-added", { bubbles: true }));
}

export async function toggle(opener) {
  if (opener.hasAttribute("aria-busy")) return;
  if ("children" in opener.dataset) {
    await toggleChildren(opener);
    return;
  }
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
  const found = await read(opener, address);
  if (!found) return;
  mark(true);
  const rows = [...found.querySelectorAll("tr")];
  row.after(...rows);
  row.closest("table").dispatchEvent(new CustomEvent("rows-added", { bubbles: true }));
  announce(text("rows", rows.length));
}

document.addEventListener("click", (event) => {
  const opener = event.target.closest("a[data-open], a[data-children]");
  if (!opener || !isPlainClick(event)) return;
  event.preventDefault();
  toggle(opener);
});
