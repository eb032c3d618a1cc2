// Lookups: type to find, or open the choices by a click or an arrow key; passing through
// changes nothing. A long one asks the server as one types, and for more as one scrolls.
// One that follows other fields asks with their values, and anew when they change.
import { announce } from "./announcer.js";
import { text } from "./dom.js";

export function enhance(select) {
  if (select.tomselect) return select.tomselect;
  const several = select.multiple; // chips, each with a cross
  const address = several ? (select.dataset.chosen ?? select.dataset.lookup) : select.dataset.lookup;
  const followed = (select.dataset.follows ?? "").split(" ").filter(Boolean);
  const control = (name) => select.form?.elements[name];
  const given = () => followed.map((name) => [name, control(name)?.value ?? ""]).filter((pair) => pair[1]);
  const line = (data, escape) =>
    `<div>${escape(data.text)}${data.note ? `<small>${escape(data.note)}</small>` : ""}</div>`;
  const options = {
    maxOptions: 500,
    allowEmptyOption: false,
    openOnFocus: false,
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
  if (select.dataset.others) { // values without a record may be entered, too
    options.create = true;
    options.persist = false;
    const isWhole = "whole" in select.dataset;
    options.createFilter = (typed) => (!isWhole || /^-?\d+$/.test(typed)) && !(typed in made.options);
    options.render.option_create = (data, escape) =>
      `<div class="create">${escape(select.dataset.others)} <b>${escape(data.input)}</b></div>`;
  }
  if (several) {
    options.hideSelected = true;
    options.placeholder = select.dataset.hint ?? select.getAttribute("placeholder");
    options.render.item = (data, escape) =>
      `<div>${escape(data.text)}<button type="button" class="chip-away" tabindex="-1" aria-label="${escape(text("remove"))}: ${escape(data.text)}">×</button></div>`;
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
      ask(query, 0).then((all) => {
        done(all);
        announce(text("found", all.length));
      }).catch(() => done([]));
    };
  }
  // a row's choices must not be cut off by the sheet that it scrolls in
  if (select.closest(".grid-in, .panel")) options.dropdownParent = "body";
  // while one types, the present value makes room
  options.onType = function (typed) { this.wrapper.classList.toggle("typing", typed !== ""); };
  options.onBlur = options.onChange = function () { this.wrapper.classList.remove("typing"); };
  const made = new TomSelect(select, options);
  // the select itself is for the browser's own check alone
  select.setAttribute("aria-hidden", "true");
  select.addEventListener("focus", () => made.focus());
  // a click opens the choices, and closes them
  let wasOpen = false;
  made.control.addEventListener("mousedown", () => { wasOpen = made.isOpen; }, true);
  made.control.addEventListener("click", (event) => {
    if (!wasOpen && !made.isOpen && !event.target.closest(".chip-away")) made.refreshOptions(true);
  });
  // Escape closes the choices, and only then what is around them
  let closes = false;
  made.wrapper.addEventListener("keydown", (event) => { if (closes) event.stopPropagation(); });
  made.wrapper.addEventListener("keydown", (event) => {
    closes = event.key === "Escape" && made.isOpen;
    if (event.key !== "Tab") return;
    // Tab passes through: it chooses only what one has typed for
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

export function enhanceAll(within) {
  for (const select of within.querySelectorAll("select[data-lookup], select[data-chosen]")) enhance(select);
}
