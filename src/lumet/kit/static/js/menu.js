// The menu of tables: one Tab stop, arrow keys within, a search that leaves out the others;
// in narrow windows it opens by a button.
import { announce } from "./announcer.js";
import { rove } from "./roving.js";

const side = document.querySelector(".side");
const links = () => [...document.querySelectorAll(".side .tables a")];
if (side && links().length) {
  const present = side.querySelector(".tables [aria-current]");
  const roving = rove(links, present);
  side.querySelector(".tables").addEventListener("keydown", (event) => roving.handle(event));
  present?.scrollIntoView({ block: "nearest" });
}

const box = document.querySelector("[data-find]");
if (box) {
  const input = box.querySelector("input");
  const sections = [...document.querySelectorAll(".side .tables section")];
  const shown = () => links().filter((each) => !each.closest("[hidden]"));
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const section of sections) {
      let left = 0;
      for (const item of section.querySelectorAll("li")) {
        const text = item.textContent.toLowerCase();
        item.hidden = !words.every((word) => text.includes(word));
        left += !item.hidden;
      }
      section.hidden = !left;
    }
    const first = shown()[0];
    for (const each of links()) each.tabIndex = each === first ? 0 : -1;
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
