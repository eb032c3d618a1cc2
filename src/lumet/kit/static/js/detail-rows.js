// Rows that are saved with their record: added, moved, added up.
import { announce } from "./announcer.js";
import { controlOf, text } from "./dom.js";
import { prepare } from "./inputs.js";
import { enhanceAll } from "./lookups.js";

// Another row is a copy of a blank one, under the next number.
function addRows(button) {
  const number = button.dataset.addRow;
  const body = document.querySelector(`table[data-rows="${number}"] tbody`);
  const blank = document.querySelector(`template[data-row="${number}"]`);
  let next = body.rows.length;
  button.hidden = false;
  button.addEventListener("click", () => {
    body.insertAdjacentHTML("beforeend", blank.innerHTML.replaceAll("__n__", String(next++)));
    const row = body.rows[body.rows.length - 1];
    prepare(row);
    enhanceAll(row);
    movable(row);
    controlOf(row.querySelector("input:not([type=hidden]), select, textarea"))?.focus();
    announce(text("rows", body.rows.length));
  });
}

// Rows that are numbered can be moved: the numbers follow the order that one sees.
function movable(row) {
  const place = (each) => each?.querySelector("td[data-place] input:not([type=hidden])");
  const buttons = row.querySelectorAll("button[data-move]");
  if (!buttons.length || !place(row)) return;
  const move = (way) => {
    const body = row.parentElement;
    const other = way < 0 ? row.previousElementSibling : row.nextElementSibling;
    if (!other || !place(other)) return false;
    if (way > 0 && !place(other).value) return false; // nothing was written there yet
    const numbers = () => [...body.rows].map(place).filter((each) => each?.value);
    const free = () => Math.max(0, ...numbers().map((each) => Number(each.value))) + 1;
    if (!place(row).value) place(row).value = free();
    const found = numbers().map((each) => Number(each.value));
    if (found.some(Number.isNaN)) return false;
    if (way < 0) other.before(row); else other.after(row);
    found.sort((one, next) => one - next);
    numbers().forEach((each, index) => { each.value = found[index]; });
    row.dispatchEvent(new Event("change", { bubbles: true }));
    announce(text("place", row.sectionRowIndex + 1));
    return true;
  };
  for (const button of buttons) {
    button.hidden = false;
    button.addEventListener("click", () => { move(Number(button.dataset.move)); button.focus(); });
  }
  row.addEventListener("keydown", (event) => {
    const way = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (!way || !event.altKey || event.target.closest("select, .ts-wrapper")) return;
    event.preventDefault();
    const held = event.target;
    if (move(way)) held.focus();
  });
}

// The totals of the rows, while one types.
function addUp(foot) {
  const body = foot.parentElement.tBodies[0];
  const language = document.documentElement.dataset.format || undefined;
  const parts = new Intl.NumberFormat(language).formatToParts(12345.6);
  const mark = (type) => parts.find((each) => each.type === type)?.value ?? "";
  const grouped = new RegExp(`^[+-]?\\d{1,3}([${mark("group")}]\\d{3})+([${mark("decimal")}]\\d+)?$`);
  const value = (cell) => {
    const input = cell?.querySelector("input:not([type=hidden])");
    const typed = (input ? input.value : cell?.querySelector(".kept")?.textContent ?? "").trim();
    const plain = typed.replace(/[\s\p{L}\p{Sc}%°]+$/u, "");
    if (/^[+-]?\d+([.,]\d+)?$/.test(plain) && !grouped.test(plain)) return plain.replace(",", ".");
    return grouped.test(plain) ? plain.replaceAll(mark("group"), "").replace(mark("decimal"), ".") : "";
  };
  const work = {
    sum: (all) => all.reduce((one, next) => one + next, 0),
    avg: (all) => all.reduce((one, next) => one + next, 0) / all.length,
    min: (all) => Math.min(...all),
    max: (all) => Math.max(...all),
  };
  const tell = () => {
    const rows = [...body.rows].filter((row) => !row.querySelector(".away input:checked"));
    for (const cell of foot.querySelectorAll("[data-total]")) {
      const texts = rows.map((row) => value(row.cells[cell.cellIndex])).filter(Boolean);
      const digits = Math.max(0, ...texts.map((each) => (each.split(".")[1] ?? "").length));
      const found = texts.length ? work[cell.dataset.total](texts.map(Number)) : null;
      const shown = { minimumFractionDigits: digits, maximumFractionDigits: Math.max(digits, 2) };
      const unit = cell.dataset.unit ? `\u00a0${cell.dataset.unit}` : "";
      cell.textContent = found === null ? "" : found.toLocaleString(language, shown) + unit;
    }
  };
  foot.hidden = false;
  body.addEventListener("input", tell);
  body.addEventListener("change", tell);
  tell();
}

export function prepareRows(form) {
  for (const button of form.querySelectorAll("button[data-add-row]")) addRows(button);
  for (const row of form.querySelectorAll(".grid-in tbody tr")) movable(row);
  for (const foot of form.querySelectorAll(".grid-in tfoot")) addUp(foot);
}
