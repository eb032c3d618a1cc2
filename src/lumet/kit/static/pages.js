// What the pages do beyond plain HTML. Everything works without it.
"use strict";

// "/" goes to the menu's search, which leaves only the tables whose names hold the words.
const find = document.querySelector("[data-find]");
if (find) {
  find.hidden = false;
  const input = find.querySelector("input");
  const sections = [...document.querySelectorAll(".side .tables section")];
  input.addEventListener("input", () => {
    const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const section of sections) {
      let shown = 0;
      for (const item of section.querySelectorAll("li")) {
        const text = item.textContent.toLowerCase();
        item.hidden = !words.every((word) => text.includes(word));
        shown += !item.hidden;
      }
      section.hidden = !shown;
    }
  });
  input.addEventListener("keydown", (event) => {
    const first = document.querySelector(".side .tables li:not([hidden]) a");
    if (event.key === "Enter" && input.value && first) first.click();
    if (event.key === "Escape") {
      input.value = "";
      input.dispatchEvent(new Event("input"));
      input.blur();
    }
  });
  document.addEventListener("keydown", (event) => {
    const typing = event.target.closest("input, textarea, select, [contenteditable]");
    if (event.key === "/" && !typing) {
      event.preventDefault();
      input.focus();
    }
  });
}

// The menu is folded only where the window is narrow.
const menu = document.querySelector(".side details");
if (menu) {
  const narrow = window.matchMedia("(max-width: 760px)");
  const fold = () => { menu.open = !narrow.matches; };
  narrow.addEventListener("change", fold);
  fold();
  document.querySelector(".side [aria-current]")?.scrollIntoView({ block: "nearest" });
}

// Lookups: type to find. A long one asks the server as one types.
function enhance(select) {
  const address = select.dataset.lookup;
  const options = {
    maxOptions: 200,
    allowEmptyOption: false,
    selectOnTab: true,
    render: {
      no_results: (data, escape) =>
        `<div class="no-results">${escape(select.dataset.none)}</div>`,
    },
  };
  if (select.dataset.more) {
    options.valueField = "value";
    options.labelField = "text";
    options.searchField = ["text"];
    // what the server found last has been chosen and ranked already
    let asked = "";
    let ranks = new Map();
    let request = new AbortController();
    options.score = (query) => (option) => (query === asked && ranks.get(String(option.value))) || 0;
    options.shouldLoad = (query) => query.length > 0;
    options.load = function (query, done) {
      asked = query;
      ranks = new Map();
      request.abort(); // or its answer would overtake this one's
      request = new AbortController();
      this.clearOptions((option) => this.items.includes(String(option.value)));
      fetch(`${address}?q=${encodeURIComponent(query)}`, {
        credentials: "same-origin",
        signal: request.signal,
      })
        .then((answer) => (answer.ok ? answer.json() : []))
        .then((found) => {
          ranks = new Map(found.map((each, place) => [String(each.value), found.length - place]));
          done(found);
        })
        .catch(() => done([]));
    };
  }
  // while one types, the present value makes room
  options.onType = function (text) { this.wrapper.classList.toggle("typing", text !== ""); };
  options.onBlur = options.onChange = function () { this.wrapper.classList.remove("typing"); };
  new TomSelect(select, options);
}
for (const select of document.querySelectorAll("select[data-lookup]")) enhance(select);

// Charts: the numbers stand below in a table as well.
for (const canvas of document.querySelectorAll("canvas[data-chart]")) {
  const token = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  const along = canvas.dataset.along;
  Chart.defaults.color = token("--ink-2");
  Chart.defaults.font.family = getComputedStyle(document.body).fontFamily;
  new Chart(canvas, {
    type: "bar",
    data: {
      labels: JSON.parse(canvas.dataset.labels).slice(0, along ? undefined : 24),
      datasets: [{
        data: JSON.parse(canvas.dataset.chart).slice(0, along ? undefined : 24),
        backgroundColor: token("--sea"),
      }],
    },
    options: {
      animation: false,
      maintainAspectRatio: false,
      plugins: { legend: { display: false } },
      scales: { x: { grid: { display: false } }, y: { grid: { color: token("--line") }, beginAtZero: true } },
    },
  });
}

// Ctrl S saves; leaving a changed form asks first.
const form = document.querySelector("form[data-record]");
if (form) {
  document.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key === "s") {
      event.preventDefault();
      form.requestSubmit();
    }
  });
  let changed = false;
  let sent = false;
  form.addEventListener("input", () => { changed = true; });
  form.addEventListener("change", () => { changed = true; });
  form.addEventListener("submit", (event) => {
    if (sent) event.preventDefault(); // it is on its way
    sent = true;
  });
  window.addEventListener("pageshow", () => { sent = false; });
  window.addEventListener("beforeunload", (event) => {
    if (changed && !sent) event.preventDefault();
  });
  form.querySelector(".wrong input, .wrong select, .wrong textarea")?.focus();
}

// A list that is edited in its place: arrows move from cell to cell, Enter opens one and
// saves it, Escape leaves it as it was.
const sheet = document.querySelector("table[data-in-place]");
if (sheet) {
  const keys = sheet.dataset.inPlace.split(",");
  const grid = [...sheet.tBodies[0].rows].map((row) =>
    [...row.cells].filter((cell, place) => keys[place]));
  const place = (cell) => {
    const row = grid.findIndex((each) => each.includes(cell));
    return [row, grid[row].indexOf(cell)];
  };
  const go = (row, column) => {
    const cell = grid[row]?.[column];
    if (!cell) return;
    for (const each of grid.flat()) each.tabIndex = -1;
    cell.tabIndex = 0;
    cell.focus();
  };
  const address = (cell) =>
    `${cell.parentElement.querySelector("a.title").getAttribute("href")}/field/${keys[cell.cellIndex]}`;
  const show = (cell, html) => {
    cell.innerHTML = html;
    const form = cell.querySelector("form.in-place");
    cell.classList.toggle("editing", Boolean(form));
    if (!form) return;
    for (const select of form.querySelectorAll("select[data-lookup]")) enhance(select);
    const control = form.querySelector(".ts-control input, input:not([type=hidden]), select, textarea");
    control?.focus();
    control?.select?.();
    form.addEventListener("submit", (event) => { event.preventDefault(); save(cell, form); });
    form.querySelector("[data-leave]").addEventListener("click", () => leave(cell));
  };
  const ask = async (cell, options) => {
    const answer = await fetch(address(cell), { credentials: "same-origin", ...options });
    if (answer.redirected || [400, 401, 403, 404, 500, 503].includes(answer.status)) {
      window.location.assign(address(cell).replace(/\/field\/[^/]*$/, ""));
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
    go(...place(cell));
  };
  const save = async (cell, form) => {
    const answer = await ask(cell, { method: "POST", body: new FormData(form) });
    if (!answer) return;
    show(cell, await answer.text());
    if (answer.ok) {
      const [row, column] = place(cell);
      go(Math.min(row + 1, grid.length - 1), column);
    }
  };
  for (const cell of grid.flat()) {
    cell.tabIndex = -1;
    cell.classList.add("editable");
    cell.addEventListener("dblclick", () => open(cell));
    cell.addEventListener("keydown", (event) => {
      const inside = event.target !== cell;
      const [row, column] = place(cell);
      const steps = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };
      if (event.key === "Escape" && inside) {
        event.preventDefault();
        leave(cell);
      } else if (event.key === "Enter" && inside && event.target.matches("input[type=radio]")) {
        event.preventDefault();
        event.target.form.requestSubmit();
      } else if (!inside && (event.key === "Enter" || event.key === "F2")) {
        event.preventDefault();
        open(cell);
      } else if (!inside && steps[event.key]) {
        event.preventDefault();
        go(row + steps[event.key][0], column + steps[event.key][1]);
      }
    });
  }
  if (grid[0]?.[0]) grid[0][0].tabIndex = 0;
}
