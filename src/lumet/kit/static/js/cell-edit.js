// A list that is edited in its place: Enter opens a cell and saves it, Escape leaves it as it
// was; the arrow keys are the list's.
import { enhanceAll } from "./lookups.js";
import { enhanceDates } from "./date-input.js";

const table = document.querySelector("table[data-in-place]");
if (table) {
  const keys = table.dataset.inPlace.split(",");
  const stop = (cell) => {
    table.dispatchEvent(new CustomEvent("stop-at", { detail: cell }));
    cell.focus();
  };
  const record = (cell) => cell.parentElement.querySelector("a.title").getAttribute("href");
  const address = (cell) => record(cell) + table.dataset.field + keys[cell.cellIndex];
  const show = (cell, html) => {
    cell.innerHTML = html;
    const form = cell.querySelector("form.in-place");
    cell.classList.toggle("editing", Boolean(form));
    if (!form) return;
    enhanceAll(form);
    enhanceDates(form);
    const control = form.querySelector("input[type=radio]:checked")
      ?? form.querySelector(".ts-control input, input:not([type=hidden]), select, textarea");
    control?.focus();
    control?.select?.();
    form.addEventListener("submit", (event) => { event.preventDefault(); save(cell, form); });
    form.querySelector("[data-leave]").addEventListener("click", () => leave(cell));
  };
  const ask = async (cell, options) => {
    const answer = await fetch(address(cell), { credentials: "same-origin", ...options });
    if (answer.redirected || [400, 401, 403, 404, 500, 503].includes(answer.status)) {
      window.location.assign(record(cell));
      return null;
    }
    return answer;
  };
  const open = async (cell) => {
    if (cell.classList.contains("editing")) return;
    cell.dataset.was = cell.innerHTML;
    const answer = await ask(cell, {});
    if (answer) show(cell, await answer.text());
  };
  const leave = (cell) => {
    show(cell, cell.dataset.was);
    stop(cell);
  };
  const save = async (cell, form) => {
    const answer = await ask(cell, { method: "POST", body: new FormData(form) });
    if (!answer) return;
    show(cell, await answer.text());
    if (!answer.ok) return;
    const below = cell.parentElement.nextElementSibling?.cells[cell.cellIndex];
    stop(below?.classList.contains("editable") ? below : cell);
  };
  for (const row of table.tBodies[0].rows) {
    for (const cell of row.cells) {
      if (!keys[cell.cellIndex]) continue;
      cell.classList.add("editable");
      cell.addEventListener("dblclick", () => open(cell));
      cell.addEventListener("keydown", (event) => {
        const inside = event.target !== cell;
        if (event.key === "Escape" && inside && !event.defaultPrevented) {
          event.preventDefault();
          leave(cell);
        } else if (event.key === "Enter" && inside && event.target.matches("input[type=radio]")) {
          event.preventDefault();
          event.target.form.requestSubmit();
        } else if (!inside && (event.key === "Enter" || event.key === "F2")) {
          event.preventDefault();
          open(cell);
        }
      });
    }
  }
  table.dispatchEvent(new CustomEvent("rows-added"));
}
