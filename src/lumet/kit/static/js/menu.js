// The menu of tables: one Tab stop, arrow keys within, a search that leaves out the others;
// in narrow windows it opens by a button.
import { announce } from "./announcer.js";
import { rove } from "./roving.js";

const side = document.querySelector(".side");
const links = () => [...document.querySelectorAll(".side .tables a")];
if (side && links().length) {
  const present = side.querySelector(".tables [aria-current]");
  const stops = () => [...side.querySelectorAll(".tables :is(a, summary)")];
  const roving = rove(stops, present);
  side.querySelector(".tables").addEventListener("keydown", (event) => {
    const head = event.target.closest("summary");
    const wanted = { ArrowRight: true, ArrowLeft: false }[event.key];
    if (head && wanted !== undefined) {
      event.preventDefault();
      if (head.parentElement.open !== wanted) head.click();
    } else {
      roving.handle(event);
    }
  });
  present?.scrollIntoView({ block: "nearest" });
}

// Groups stay as the user folded them.
const tables = side?.querySelector("[data-menu]");
const token = document.querySelector("input[name=csrf_token]")?.value;
tables?.addEventListener("click", (event) => {
  const group = event.target.closest("summary")?.parentElement;
  if (!group?.dataset.group || !token) return;
  const sent = new URLSearchParams({ csrf_token: token, group: group.dataset.group });
  if (!group.open) sent.set("open", "1"); // it is about to be
  fetch(tables.dataset.menu, { method: "POST", body: sent, credentials: "same-origin", keepalive: true, redirect: "manual" }).catch(() => {});
});

// The numbers of records come afterwards, the first time.
async function count() {
  const said = await fetch(tables.dataset.counts, { credentials: "same-origin" }).catch(() => null);
  if (!said?.ok) return;
  const counts = await said.json().catch(() => ({}));
  for (const link of tables.querySelectorAll("a[data-name]")) {
    const number = counts[link.dataset.name];
    if (!number || link.querySelector("small")) continue;
    const note = document.createElement("small");
    note.textContent = number;
    note.setAttribute("aria-hidden", "true"); // the name of the link is the table's
    link.append(note);
  }
}
if (tables?.dataset.counts) count();

const box = document.querySelector("[data-find]");
if (box) {
  const input = box.querySelector("input");
  const sections = [...document.querySelectorAll(".side .tables details, .side .tables section")];
  const before = new Map(); // whether a group was open, while the filter opens some
  const shown = () => links().filter((each) => !each.closest("[hidden]"));
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const section of sections) {
      if (words.length && !before.has(section)) before.set(section, section.open);
      let left = 0;
      for (const item of section.querySelectorAll("li")) {
        const text = item.textContent.toLowerCase();
        item.hidden = !words.every((word) => text.includes(word));
        left += !item.hidden;
      }
      section.hidden = !left;
      if (words.length) section.open = true;
      else if (before.has(section)) section.open = before.get(section);
    }
    if (!words.length) before.clear();
    const first = shown()[0];
    for (const each of document.querySelectorAll(".side .tables :is(a, summary)")) each.tabIndex = each === first ? 0 : -1;
    announce(box.dataset.found.replace("*", shown().length));
  });
  input.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && input.value) shown()[0]?.click();
    if (event.key === "ArrowDown") {
      event.preventDefault();
      shown()[0]?.focus();
    }
    if (event.key === "Escape" && input.value) {
      event.stopPropagation();
      input.value = "";
      input.dispatchEvent(new Event("input"));
    }
  });
}

// In narrow windows the menu lies over the page until it is closed.
const button = document.querySelector(".menu-button");
if (button && side) {
  button.setAttribute("role", "button");
  button.setAttribute("aria-expanded", "false");
  button.setAttribute("aria-controls", "menu");
  const work = document.getElementById("work");
  const set = (open) => {
    document.body.classList.toggle("menu-open", open);
    button.setAttribute("aria-expanded", String(open));
    work.inert = open;
    if (open) (side.querySelector("[data-find] input") ?? links()[0])?.focus();
    else button.focus();
  };
  const isOpen = () => document.body.classList.contains("menu-open");
  button.addEventListener("click", (event) => {
    event.preventDefault();
    set(!isOpen());
  });
  button.addEventListener("keydown", (event) => {
    if (event.key !== " ") return;
    event.preventDefault();
    set(!isOpen());
  });
  document.querySelector(".menu-close").addEventListener("click", (event) => {
    event.preventDefault();
    set(false);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && isOpen()) set(false);
  });
  window.matchMedia("(max-width: 860px)").addEventListener("change", (event) => {
    if (!event.matches && isOpen()) set(false);
  });
}
