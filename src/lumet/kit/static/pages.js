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

// Lookups: type to find; a long one asks the server as one types, and for more as one
// scrolls. One that follows other fields asks with their values, and anew when they change.
function enhance(select) {
  const several = select.multiple; // chips, each with a cross
  const address = several ? select.dataset.picks : select.dataset.lookup;
  const followed = (select.dataset.follows ?? "").split(" ").filter(Boolean);
  const control = (name) => select.form?.elements[name];
  const given = () => followed.map((name) => [name, control(name)?.value ?? ""]).filter((pair) => pair[1]);
  const line = (data, escape) =>
    `<div>${escape(data.text)}${data.note ? `<small>${escape(data.note)}</small>` : ""}</div>`;
  const options = {
    maxOptions: 500,
    allowEmptyOption: false,
    selectOnTab: false, // but for what was typed, see below
    refreshThrottle: 0, // or Enter would choose from before what was typed
    render: {
      option: line,
      no_results: (data, escape) =>
        `<div class="no-results">${escape(select.dataset.none)}</div>`,
    },
  };
  // what the server found last has been chosen and ranked already
  let asked = "";
  let found = 0;
  let more = false;
  let ranks = new Map();
  let request = new AbortController();
  const ask = async (query, skip) => {
    request.abort(); // or its answer would overtake this one's
    request = new AbortController();
    const values = new URLSearchParams([["find-what", query], ["skip-first", skip], ...given()]);
    const answer = await fetch(`${address}?${values}`, {
      credentials: "same-origin",
      signal: request.signal,
    });
    const said = answer.ok ? await answer.json() : { found: [], more: false };
    more = said.more;
    for (const each of said.found) ranks.set(String(each.value), 10000 - found++);
    if (said.cut) said.found.push({ value: "", text: select.dataset.cut, disabled: true });
    return said.found;
  };
  if (several) {
    options.hideSelected = true;
    options.placeholder = select.dataset.hint;
    options.render.item = (data, escape) =>
      `<div>${escape(data.text)}<button type="button" class="chip-away" aria-label="${escape(select.dataset.away)}: ${escape(data.text)}">×</button></div>`;
  }
  const isLong = several ? Boolean(address) : Boolean(select.dataset.more);
  if (isLong) {
    options.valueField = "value";
    options.labelField = "text";
    options.searchField = ["text"];
    options.score = (query) => (option) =>
      (option.disabled ? 0.1 : query === asked && ranks.get(String(option.value))) || 0;
    options.shouldLoad = (query) => query.length > 0;
    options.load = function (query, done) {
      asked = query;
      found = 0;
      ranks = new Map();
      this.clearOptions((option) => this.items.includes(String(option.value)));
      ask(query, 0).then(done).catch(() => done([]));
    };
  }
  // a row's choices must not be cut off by the sheet that it scrolls in
  if (select.closest(".grid-in")) options.dropdownParent = "body";
  // while one types, the present value makes room
  options.onType = function (text) { this.wrapper.classList.toggle("typing", text !== ""); };
  options.onBlur = options.onChange = function () { this.wrapper.classList.remove("typing"); };
  const made = new TomSelect(select, options);
  // Tab passes through: it chooses only what one has typed for
  made.wrapper.addEventListener("keydown", (event) => {
    if (event.key !== "Tab") return;
    made.settings.selectOnTab = !event.shiftKey && made.control_input.value !== "";
  }, true);
  if (several) {
    made.control.addEventListener("click", (event) => {
      const away = event.target.closest(".chip-away");
      if (!away) return;
      event.preventDefault();
      event.stopPropagation();
      made.removeItem(away.parentElement.dataset.value);
    }, true);
  }
  if (isLong) {
    made.dropdown_content.addEventListener("scroll", async () => {
      const box = made.dropdown_content;
      if (!more || !asked || box.scrollTop + box.clientHeight < box.scrollHeight - 40) return;
      more = false; // until the answer says so again
      const next = await ask(asked, found).catch(() => []);
      const place = box.scrollTop;
      made.addOptions(next);
      made.refreshOptions(false);
      box.scrollTop = place;
    });
  }
  const anew = async () => {
    const fitting = await ask("", 0).catch(() => null);
    if (!fitting) return;
    const chosen = made.getValue();
    made.clear(true);
    made.clearOptions(() => false);
    made.addOptions(fitting);
    if (fitting.some((each) => String(each.value) === chosen)) made.setValue(chosen, true);
  };
  for (const name of followed) control(name)?.addEventListener?.("change", anew);
  return made;
}
for (const select of document.querySelectorAll("select[data-lookup], select[data-picks]")) enhance(select);

// What a lookup refers to is added in a dialog, and chosen when that was saved.
for (const link of document.querySelectorAll("a[data-add]")) {
  link.addEventListener("click", async (event) => {
    event.preventDefault();
    const address = new URL(link.href);
    address.searchParams.set("as-piece", "1");
    const dialog = document.createElement("dialog");
    dialog.setAttribute("aria-label", link.textContent);
    const show = (html) => {
      dialog.innerHTML = html;
      prepare(dialog);
      for (const select of dialog.querySelectorAll("select[data-lookup]")) enhance(select);
      dialog.querySelector("[data-leave]").addEventListener("click", () => dialog.close());
      dialog.querySelector("form").addEventListener("submit", send);
      (dialog.querySelector(".wrong :is(input, select, textarea)") ?? firstControl(dialog))?.focus();
    };
    const send = async (submitted) => {
      submitted.preventDefault();
      const body = new FormData(submitted.target);
      const answer = await fetch(address, { method: "POST", body, credentials: "same-origin" });
      if (!(answer.headers.get("Content-Type") ?? "").includes("json")) {
        show(await answer.text());
        return;
      }
      const made = await answer.json();
      const lookup = document.getElementById(link.dataset.add).tomselect;
      if (made.value !== undefined) {
        lookup.addOption(made);
        lookup.setValue(String(made.value));
      }
      dialog.close();
    };
    dialog.addEventListener("close", () => {
      dialog.remove();
      document.getElementById(link.dataset.add).tomselect.focus();
    });
    document.body.append(dialog);
    show(await (await fetch(address, { credentials: "same-origin" })).text());
    dialog.showModal();
    firstControl(dialog)?.focus();
  });
}

// The first control that one can write in or choose with.
function firstControl(within) {
  const controls = within.querySelectorAll(
    ".fields :is(input:not([type=hidden]), textarea, select)");
  const first = [...controls].find((each) => !each.closest(".ts-dropdown") && !each.disabled);
  return first?.tomselect?.control_input ?? first;
}

// A number goes up and down by the arrow keys, within its bounds.
function prepare(within) {
  for (const input of within.querySelectorAll("input[data-step]")) {
    input.addEventListener("keydown", (event) => {
      const way = { ArrowUp: 1, ArrowDown: -1 }[event.key];
      const plain = input.value.trim();
      if (!way || event.altKey || !/^[+-]?\d*\.?\d*$/.test(plain)) return;
      event.preventDefault();
      const step = input.dataset.step;
      const digits = Math.max((plain.split(".")[1] ?? "").length, (step.split(".")[1] ?? "").length);
      const lowest = Number(input.dataset.lowest ?? -Infinity);
      const highest = Number(input.dataset.highest ?? Infinity);
      const next = (Number(plain) || 0) + way * Number(step);
      input.value = Math.min(Math.max(next, lowest), highest).toFixed(digits);
      input.dispatchEvent(new Event("input", { bubbles: true }));
    });
  }
  // a colour can be picked as well as written
  for (const input of within.querySelectorAll("input[data-colour]")) {
    const picker = document.createElement("input");
    const box = document.createElement("div");
    picker.type = "color";
    picker.className = "swatch";
    picker.setAttribute("aria-label", input.labels[0]?.textContent.trim() ?? "");
    const show = () => { if (/^#[0-9a-f]{6}$/i.test(input.value)) picker.value = input.value; };
    input.addEventListener("input", show);
    picker.addEventListener("input", () => { input.value = picker.value; });
    box.className = "with-swatch";
    input.replaceWith(box);
    box.append(input, picker);
    show();
  }
  // a long text grows with what is written; most browsers do so by themselves
  if (CSS.supports("field-sizing", "content")) return;
  for (const area of within.querySelectorAll("textarea[data-grows]")) {
    const grow = () => { area.rows = Math.max(3, area.value.split("\n").length + 1); };
    area.addEventListener("input", grow);
    grow();
  }
}
prepare(document);

// Blocks of related records load when they come into view; what one sorts, searches or
// pages there changes the block alone.
async function load(block, address) {
  const piece = new URL(address, window.location.href);
  piece.searchParams.set("as-piece", "1");
  const answer = await fetch(piece, { credentials: "same-origin" });
  if (!answer.ok || answer.redirected) return window.location.assign(address);
  const height = block.offsetHeight;
  block.innerHTML = await answer.text();
  if (block.offsetHeight < height) block.style.minHeight = `${height}px`; // nothing jumps
}
const watcher = new IntersectionObserver((seen) => {
  for (const each of seen) {
    if (!each.isIntersecting) continue;
    watcher.unobserve(each.target);
    load(each.target, each.target.dataset.block);
  }
}, { rootMargin: "200px" });
for (const block of document.querySelectorAll("section[data-block]")) {
  if ("late" in block.dataset) watcher.observe(block);
  block.addEventListener("click", (event) => {
    const link = event.target.closest("th a, .pager a");
    if (!link || event.ctrlKey || event.metaKey || event.shiftKey) return;
    event.preventDefault();
    load(block, link.href);
  });
  block.addEventListener("submit", (event) => {
    event.preventDefault();
    const asked = new URLSearchParams(new FormData(event.target));
    load(block, `${event.target.getAttribute("action")}?${asked}`);
  });
}

// Another row is a copy of a blank one, under the next number.
for (const button of document.querySelectorAll("button[data-add-row]")) {
  const number = button.dataset.addRow;
  const body = document.querySelector(`table[data-rows="${number}"] tbody`);
  const blank = document.querySelector(`template[data-row="${number}"]`);
  let next = body.rows.length;
  button.hidden = false;
  button.addEventListener("click", () => {
    body.insertAdjacentHTML("beforeend", blank.innerHTML.replaceAll("__n__", String(next++)));
    const row = body.rows[body.rows.length - 1];
    prepare(row);
    for (const select of row.querySelectorAll("select[data-lookup]")) enhance(select);
    movable(row);
    row.querySelector("input:not([type=hidden]), select, textarea")?.focus();
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
for (const row of document.querySelectorAll(".grid-in tbody tr")) movable(row);

// What the rows come to, while one types.
for (const foot of document.querySelectorAll(".grid-in tfoot")) {
  const body = foot.parentElement.tBodies[0];
  const language = document.documentElement.lang || undefined;
  const parts = new Intl.NumberFormat(language).formatToParts(12345.6);
  const mark = (type) => parts.find((each) => each.type === type)?.value ?? "";
  const grouped = new RegExp(`^[+-]?\\d{1,3}([${mark("group")}]\\d{3})+([${mark("decimal")}]\\d+)?$`);
  const value = (cell) => {
    const input = cell?.querySelector("input:not([type=hidden])");
    const text = (input ? input.value : cell?.querySelector(".kept")?.textContent ?? "").trim();
    const plain = text.replace(/[\s\p{L}\p{Sc}%°]+$/u, "");
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
      const digits = Math.max(0, ...texts.map((text) => (text.split(".")[1] ?? "").length));
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

// A tree: what stands below a row is read when it is opened.
document.addEventListener("click", async (event) => {
  const opener = event.target.closest("a[data-open]");
  if (!opener || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  if (opener.hasAttribute("aria-busy")) return;
  const row = opener.closest("tr");
  const level = Number(opener.dataset.open);
  const depth = (each) => Number(each.dataset.level);
  if (opener.getAttribute("aria-expanded") === "true") {
    opener.setAttribute("aria-expanded", "false");
    while (row.nextElementSibling && depth(row.nextElementSibling) >= level) row.nextElementSibling.remove();
    return;
  }
  const piece = new URL(opener.href);
  piece.searchParams.set("as-piece", "1");
  piece.searchParams.set("level", level);
  opener.setAttribute("aria-busy", "true");
  const answer = await fetch(piece, { credentials: "same-origin" });
  if (!answer.ok || answer.redirected) return window.location.assign(opener.href);
  const made = document.createElement("template");
  made.innerHTML = await answer.text();
  opener.removeAttribute("aria-busy");
  opener.setAttribute("aria-expanded", "true");
  row.after(...made.content.querySelectorAll("tr"));
});

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
    if (event.submitter?.name === "find-for") return;
    if (sent) event.preventDefault(); // it is on its way
    sent = true;
  });
  window.addEventListener("pageshow", () => { sent = false; });
  window.addEventListener("beforeunload", (event) => {
    if (changed && !sent) event.preventDefault();
  });
  const wrong = form.querySelector(".wrong :is(input:not([type=hidden]), select, textarea)");
  const first = wrong ?? (form.dataset.record === "new" ? firstControl(form) : null);
  (first?.tomselect?.control_input ?? first)?.focus();
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
