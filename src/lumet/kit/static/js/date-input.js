// Dates and times: written in many ways, read by the server, set out as the user's language
// has them; days are chosen in a calendar too.
import { text } from "./dom.js";

const CALENDAR = new URL("../vendor/cally-0.9.2.min.js", import.meta.url).href;
const address = () => document.getElementById("texts").dataset.dates;

async function read(input, changes = {}) {
  const asked = new URLSearchParams({ kind: input.dataset.date, text: input.value, ...changes });
  const answer = await fetch(`${address()}?${asked}`, { credentials: "same-origin" });
  return answer.ok ? answer.json() : {};
}

function isRelative(typed) {
  const [, word, distance] = typed.trim().toLowerCase().match(/^([^\s\d+-]*)\s*([+-]\s*\d{1,4}\s*[dwmy]?)?$/) ?? [];
  return ["today", text("today").toLowerCase()].includes(word) || (word === "" && distance !== undefined);
}

async function setOut(input) {
  const typed = input.value;
  if (!typed.trim() || typed === input.dataset.as) return;
  if (input.dataset.relative !== undefined && isRelative(typed)) return; // a filter keeps it so
  const said = await read(input).catch(() => ({}));
  if (input.value !== typed) return; // written on meanwhile
  if (said.text) input.value = input.dataset.as = said.text;
  input.setCustomValidity(said.error ?? "");
  input.classList.toggle("unread", Boolean(said.error));
}

async function openCalendar(input) {
  await import(CALENDAR);
  const said = await read(input).catch(() => ({}));
  const dialog = document.createElement("dialog");
  dialog.className = "calendar";
  dialog.setAttribute("aria-label", text("chooseDate"));
  dialog.innerHTML = `<calendar-date><svg slot="previous" viewBox="0 0 16 16" role="img"><path d="m10 3-5 5 5 5"/></svg>
    <svg slot="next" viewBox="0 0 16 16" role="img"><path d="m6 3 5 5-5 5"/></svg><calendar-month></calendar-month></calendar-date>
    <div class="keys"><button type="button" class="btn small" data-today></button> <button type="button" class="btn small plain" data-close></button></div>`;
  const calendar = dialog.querySelector("calendar-date");
  calendar.locale = document.documentElement.dataset.format;
  const first = Number(document.documentElement.dataset.firstDay ?? 1);
  calendar.firstDayOfWeek = first;
  if (said.day) calendar.value = said.day;
  dialog.querySelector("[slot=previous]").setAttribute("aria-label", text("previousMonth"));
  dialog.querySelector("[slot=next]").setAttribute("aria-label", text("nextMonth"));
  const today = dialog.querySelector("[data-today]");
  const close = dialog.querySelector("[data-close]");
  today.textContent = text("today");
  close.textContent = text("cancel");
  const choose = async (day) => {
    const chosen = await read(input, { day });
    if (chosen.text) input.value = input.dataset.as = chosen.text;
    input.setCustomValidity("");
    input.dispatchEvent(new Event("input", { bubbles: true }));
    input.dispatchEvent(new Event("change", { bubbles: true }));
    dialog.close();
  };
  calendar.addEventListener("change", () => choose(calendar.value));
  today.addEventListener("click", () => choose("today"));
  close.addEventListener("click", () => dialog.close());
  dialog.addEventListener("click", (event) => { if (event.target === dialog) dialog.close(); });
  dialog.addEventListener("close", () => {
    dialog.remove();
    input.focus();
  });
  (input.closest("dialog") ?? document.body).append(dialog);
  dialog.showModal();
  const box = input.getBoundingClientRect();
  const height = dialog.offsetHeight;
  const isBelow = box.bottom + height + 8 < window.innerHeight;
  if (window.innerWidth > 600) {
    dialog.style.left = `${Math.max(8, Math.min(box.left, window.innerWidth - dialog.offsetWidth - 8))}px`;
    dialog.style.top = `${isBelow ? box.bottom + 4 : Math.max(8, box.top - height - 4)}px`;
  }
  window.requestAnimationFrame(() => calendar.focus());
}

export function enhanceDates(within) {
  for (const input of within.querySelectorAll("input[data-date]")) {
    if (input.dataset.as !== undefined) continue;
    input.dataset.as = input.value;
    input.addEventListener("change", () => setOut(input));
    input.addEventListener("input", () => input.setCustomValidity(""));
    const button = input.parentElement.querySelector("button[data-calendar]");
    if (!button) continue;
    button.hidden = false;
    button.addEventListener("click", () => openCalendar(input));
    input.addEventListener("keydown", (event) => {
      if (event.key !== "ArrowDown" || event.ctrlKey) return;
      event.preventDefault();
      openCalendar(input);
    });
  }
}
