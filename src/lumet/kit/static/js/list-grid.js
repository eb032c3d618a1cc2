// A list is one Tab stop: arrow keys move from cell to cell and from link to link, headings
// included. Enter opens, Space selects, E edits, Delete deletes the record of the row.
import { isTyping } from "./dom.js";
import { toggle } from "./tree.js";

const WIDGETS = "a[href], button, input:not([type=hidden]), summary";
const areShortcutsOn = () => document.body.dataset.shortcuts !== "off";

function widgetsOf(cell) {
  if (cell.classList.contains("editable")) return [cell];
  const found = [...cell.querySelectorAll(WIDGETS)].filter((each) => each.offsetParent !== null);
  return found.length ? found : [cell];
}

function place(table, target) {
  const cell = target.closest("th, td");
  const row = cell.parentElement;
  return [[...table.rows].indexOf(row), cell.cellIndex, Math.max(0, widgetsOf(cell).indexOf(target))];
}

class Grid {
  constructor(table) {
    this.table = table;
    this.isTree = Boolean(table.querySelector("tr[data-level]"));
    table.setAttribute("role", this.isTree ? "treegrid" : "grid");
    const region = table.closest(".scroll");
    region?.removeAttribute("tabindex");
    region?.removeAttribute("role");
    region?.removeAttribute("aria-label");
    this.mark();
    this.stopAt(this.present() ?? this.first());
    table.addEventListener("keydown", (event) => this.press(event));
    table.addEventListener("focusin", (event) => {
      if (!event.target.closest("form.in-place")) this.stopAt(event.target);
    });
    table.addEventListener("stop-at", (event) => this.stopAt(event.detail));
    table.addEventListener("rows-added", () => {
      this.mark();
      this.stopAt(this.present() ?? this.first());
    });
  }

  first() { return this.table.tBodies[0].querySelector("a.title") ?? widgetsOf(this.table.tBodies[0].rows[0].cells[0])[0]; }

  present() { return this.table.querySelector("tbody [tabindex='0']"); }

  // roles are said, since cards are no table to a browser any more
  mark() {
    for (const part of this.table.querySelectorAll("thead, tbody, tfoot")) part.setAttribute("role", "rowgroup");
    for (const row of this.table.rows) {
      row.setAttribute("role", "row");
      if (row.dataset.level) row.setAttribute("aria-level", Number(row.dataset.level) + 1);
      const opener = row.querySelector("a[data-open]");
      if (opener) row.setAttribute("aria-expanded", opener.getAttribute("aria-expanded"));
      for (const cell of row.cells) {
        cell.setAttribute("role", cell.tagName === "TD" ? "gridcell" : cell.scope === "row" ? "rowheader" : "columnheader");
        for (const each of cell.querySelectorAll(WIDGETS)) each.tabIndex = -1;
        if (widgetsOf(cell)[0] === cell) cell.tabIndex = -1;
      }
    }
  }

  stopAt(element) {
    if (!element || !this.table.contains(element)) return;
    for (const each of this.table.querySelectorAll("[tabindex='0']")) each.tabIndex = -1;
    element.tabIndex = 0;
  }

  go(element) {
    if (!element) return;
    this.stopAt(element);
    element.focus();
  }

  at(row, column, widget) {
    const cell = this.table.rows[row]?.cells[column];
    if (!cell || cell.offsetParent === null) return null;
    const all = widgetsOf(cell);
    return all[Math.min(widget, all.length - 1)];
  }

  vertical(from, way, column, widget) {
    for (let row = from + way; row >= 0 && row < this.table.rows.length; row += way) {
      const found = this.at(row, column, widget);
      if (found) return found;
    }
    return null;
  }

  stopsOf(row) {
    return [...row.cells].filter((cell) => cell.offsetParent !== null).flatMap(widgetsOf);
  }

  press(event) {
    const target = event.target;
    if (target.closest("form.in-place") || event.defaultPrevented || event.altKey || event.metaKey) return;
    const row = target.closest("tr");
    const stops = this.stopsOf(row);
    const here = stops.indexOf(target);
    if (here < 0) return;
    if (this.isTree && this.openOrClose(event, row)) return;
    const [number, column, widget] = place(this.table, target);
    const last = this.table.rows.length;
    const far = event.ctrlKey;
    const moves = {
      ArrowRight: () => stops[here + 1],
      ArrowLeft: () => stops[here - 1],
      ArrowDown: () => (far ? this.vertical(last, -1, column, widget) : this.vertical(number, 1, column, widget)),
      ArrowUp: () => (far ? this.vertical(-1, 1, column, widget) : this.vertical(number, -1, column, widget)),
      Home: () => (far ? this.first() : stops[0]),
      End: () => (far ? this.stopsOf(this.table.rows[last - 1])[0] : stops[stops.length - 1]),
    };
    if (moves[event.key]) {
      event.preventDefault();
      this.go(moves[event.key]());
    } else if (!far && !event.shiftKey) this.act(event, row);
  }

  openOrClose(event, row) {
    const opener = row.querySelector("a[data-open]");
    const isFirst = event.target.closest("td")?.cellIndex === 0;
    if (!opener || !isFirst) return false;
    const isOpen = opener.getAttribute("aria-expanded") === "true";
    if ((event.key === "ArrowRight" && !isOpen) || (event.key === "ArrowLeft" && isOpen)) {
      event.preventDefault();
      toggle(opener);
      return true;
    }
    return false;
  }

  act(event, row) {
    const target = event.target;
    const box = row.querySelector("input[name=chosen-row]");
    const link = (kind) => row.querySelector(`.row-acts a[data-act=${kind}]`);
    let found = null;
    if (event.key === " " && box && target !== box && !target.matches("button, summary")) found = box;
    else if (event.key === "Enter" && target.matches("td:not(.editable)")) found = row.querySelector("a.title");
    else if (areShortcutsOn() && event.key === "e") found = link("edit");
    else if (event.key === "Delete") found = link("delete");
    if (!found || isTyping(target)) return;
    event.preventDefault();
    event.stopPropagation();
    found.click();
  }
}

for (const table of document.querySelectorAll("table[data-list]")) {
  if (table.tBodies[0]?.rows.length) new Grid(table);
}
document.addEventListener("rows-added", (event) => {
  for (const table of event.target.querySelectorAll?.("table[data-list]:not([role])") ?? []) new Grid(table);
});
