// Several records: one box for all of the page, a count, and what can be done in view.
import { announce } from "./announcer.js";
import { text } from "./dom.js";

const form = document.getElementById("several");
const boxes = () => [...document.querySelectorAll("input[name=chosen-row]")];
if (form && boxes().length) {
  const all = form.querySelector("[name=all-rows]");
  const count = form.querySelector("[data-count]");
  const table = document.querySelector("table[data-list]");
  const head = document.querySelector("[data-select-page]");
  head.disabled = false;
  head.tabIndex = -1;
  table?.setAttribute("aria-multiselectable", "true");
  form.classList.add("enhanced");
  let before = 0;
  let last = null;
  const show = () => {
    const every = boxes();
    const chosen = every.filter((each) => each.checked);
    for (const each of every) each.closest("tr, article")?.setAttribute("aria-selected", String(each.checked));
    const isWhole = chosen.length === every.length;
    head.checked = isWhole;
    head.indeterminate = chosen.length > 0 && !isWhole;
    if (all) {
      all.parentElement.hidden = !isWhole;
      if (!isWhole) all.checked = false;
    }
    const number = all?.checked ? all.dataset.count : chosen.length;
    form.hidden = !chosen.length;
    count.textContent = text("selected", number);
    if (number !== before) announce(count.textContent);
    before = number;
  };
  const set = (checked) => {
    for (const each of boxes()) each.checked = checked;
    if (all && !checked) all.checked = false;
    show();
  };
  head.addEventListener("change", () => set(head.checked));
  all?.addEventListener("change", show);
  form.querySelector("[data-clear]").addEventListener("click", () => {
    set(false);
    (last ?? boxes()[0]).closest("tr, article").querySelector("a.title, input").focus();
  });
  document.addEventListener("click", (event) => {
    const box = event.target.closest("input[name=chosen-row]");
    if (!box) return;
    if (event.shiftKey && last) {
      const every = boxes();
      const ends = [every.indexOf(last), every.indexOf(box)].sort((one, next) => one - next);
      for (const each of every.slice(ends[0], ends[1] + 1)) each.checked = box.checked;
    }
    last = box;
    show();
  });
  form.addEventListener("toggle", (event) => {
    // one menu at a time
    if (!event.target.open) return;
    for (const each of form.querySelectorAll("details[open]")) if (each !== event.target) each.open = false;
  }, true);
  form.addEventListener("keydown", (event) => {
    const open = event.target.closest("details[open]");
    if (event.key !== "Escape" || !open) return;
    open.open = false;
    open.querySelector("summary").focus();
  });
  window.addEventListener("pageshow", show);
  show();
}
