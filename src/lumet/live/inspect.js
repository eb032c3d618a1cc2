// Inspect mode: pointing at a part of a page shows the decisions that made it, where they
// are and why; they are copied, or changed after a look at the difference.
const script = document.querySelector('script[src$="/_lumet/live.js"]');
const token = script.dataset.token;
const here = (path) => new URL(path, script.src);
const known = new Map();
const KEPT = "lumet-inspect";
let isOn = false;
let chosen = null;
let marked = null;

const style = (element, rules) => Object.assign(element.style, rules);

function made(tag, text = "", rules = {}) {
  const element = document.createElement(tag);
  element.textContent = text;
  style(element, rules);
  return element;
}

const bar = made("div", "", { position: "fixed", right: "16px", bottom: "12px", zIndex: 9999 });
const toggle = made("button", "Inspect", {
  font: "14px/1 system-ui, sans-serif", padding: "9px 14px", borderRadius: "6px", cursor: "pointer",
  border: "1px solid #1c3d5a", background: "#fff", color: "#1c3d5a", minHeight: "32px",
});
toggle.setAttribute("aria-pressed", "false");
toggle.id = "lumet-inspect";
bar.append(toggle);
const panel = made("aside", "", {
  position: "fixed", right: "0", top: "0", bottom: "0", width: "min(460px, 100vw)", overflow: "auto", zIndex: 9998,
  background: "#fff", color: "#16283a", borderLeft: "1px solid #9fb0bf", padding: "16px 20px 60px",
  font: "14px/1.5 system-ui, sans-serif", boxShadow: "-4px 0 16px rgb(0 0 0 / .12)",
});
panel.setAttribute("aria-label", "Decisions");
panel.tabIndex = -1;
panel.hidden = true;

async function decisionsOf(module) {
  if (!known.has(module)) {
    const address = here(`table?module=${encodeURIComponent(module)}`);
    const answer = await fetch(address, { headers: { "X-Lumet-Token": token } });
    known.set(module, (await answer.json()).found);
  }
  return known.get(module);
}

const moduleOf = (path) => decodeURIComponent(path?.match(/\/t\/([^/?#]+)/)?.[1] ?? "");
const sectionOf = (element) => element.closest("section[data-block]");

// the table, and which of its decisions made this part: by column, or by key
function targetOf(element) {
  if (element.closest("a.name")) return { module: "", keys: ["name", "menu"], name: "Name" };
  const link = element.closest('nav.side a[href*="/t/"]');
  if (link) return { module: moduleOf(link.getAttribute("href")), keys: ["plural", "group"], name: "Menu entry" };
  const group = element.closest("nav.side section h2");
  if (group) return { module: moduleOf(group.parentElement.querySelector("a[href]")?.getAttribute("href")), keys: ["group"], name: "Menu group" };
  const page = moduleOf(location.pathname);
  if (!page) return null;
  const block = sectionOf(element)?.dataset.block ?? "";
  const related = decodeURIComponent(block.match(/\/related\/([^/?#.]+)/)?.[1] ?? "");
  if (related && element.closest("header")) return { module: page, related, sections: ["details"], name: "Related records" };
  const module = related || page;
  const cell = element.closest("table.listed th, table.listed td");
  if (cell) {
    const place = [...cell.parentElement.children].indexOf(cell);
    const head = cell.closest("table").querySelectorAll("thead th")[place];
    if (place === 0) return { module, keys: ["title", "singular"], name: "Title" };
    if (cell.matches(".row-acts")) return { module, keys: ["pages"], rights: true, name: "Actions" };
    const key = head?.querySelector('[id^="sort-"]')?.id.slice(5) ?? "";
    return { module, column: key, label: head?.textContent.trim(), sections: ["list"], name: "Column" };
  }
  const control = element.closest("form[data-record] label, form[data-record] [name]") ?? element.closest(".field")?.querySelector("[name]");
  if (control) {
    const key = control.name ?? control.htmlFor?.replace(/^field-/, "") ?? "";
    return { module, column: key, label: control.textContent?.trim(), sections: ["sections"], name: "Field" };
  }
  const pair = element.closest("dl.pairs > div");
  if (pair) return { module, label: pair.querySelector("dt").textContent.trim(), sections: ["sections"], name: "Field" };
  if (element.closest(".layouts")) return { module, keys: ["list.layouts"], name: "Layouts" };
  if (element.closest(".acts a, .acts button, .bar button")) return { module, keys: ["pages"], rights: true, name: "Button" };
  if (element.closest("main section > h2, fieldset > legend")) return { module, sections: ["sections"], name: "Section" };
  if (element.closest(".head")) return { module, keys: ["plural", "singular", "title", "list.order"], name: "Heading" };
  return element.closest("main") ? { module, keys: ["title", "plural", "group", "pages", "soft_delete"], name: "Page" } : null;
}

function fitting(found, target, related) {
  const column = found.columns.find((each) => each.key === target.column) ?? found.columns.find((each) => each.label && target.label?.startsWith(each.label));
  const isOf = (each) => {
    if (target.keys?.includes(each.path.join("."))) return true;
    if (!target.sections?.includes(each.path[0])) return false;
    if (each.path[0] === "sections" && column) return each.value.includes(JSON.stringify(column.column));
    return !(each.path[0] === "details" && related) || each.path[1] === related.table;
  };
  return { column, decisions: [...(column?.decisions ?? []), ...found.decisions.filter(isOf)] };
}

async function send(target, decision, value, isSure) {
  const answer = await fetch(here("decision"), {
    method: "POST",
    headers: { "X-Lumet-Token": token, "Content-Type": "application/json" },
    body: JSON.stringify({ module: target.module, path: decision.path, value, is_sure: isSure }),
  });
  return answer.json();
}

function button(text, act) {
  const one = made("button", text, {
    font: "inherit", padding: "3px 10px", marginRight: "8px", minHeight: "28px", color: "#1c3d5a",
    background: "#f4f7f9", border: "1px solid #9fb0bf", borderRadius: "4px", cursor: "pointer",
  });
  one.type = "button";
  one.addEventListener("click", act);
  return one;
}

// the ways to change a value: each gives the element and what its value is as TOML
const mono = "13px/1.4 ui-monospace, monospace";

function textEditor(decision, called) {
  const input = made("input", "", { width: "100%", font: "inherit", padding: "3px 6px" });
  input.value = decision.plain ?? "";
  input.setAttribute("aria-label", called);
  return { element: input, read: () => JSON.stringify(input.value) };
}

function switchEditor(decision, called) {
  const label = made("label", " yes", { display: "inline-flex", gap: "6px", minHeight: "28px", alignItems: "center" });
  const input = made("input");
  input.type = "checkbox";
  input.checked = decision.plain === true;
  input.setAttribute("aria-label", called);
  label.prepend(input);
  return { element: label, read: () => String(input.checked) };
}

function columnsEditor(decision, called, found, changed) {
  const chosen = decision.plain ?? [];
  const rest = found.columns.map((each) => each.column).filter((name) => !chosen.includes(name));
  const list = made("ol", "", { listStyle: "none", margin: 0, padding: 0 });
  list.setAttribute("aria-label", called);
  const move = (item, by) => {
    const other = by < 0 ? item.previousElementSibling : item.nextElementSibling;
    if (!other) return;
    list.insertBefore(item, by < 0 ? other : other.nextElementSibling);
    changed();
  };
  for (const name of [...chosen, ...rest]) {
    const item = made("li", "", { display: "flex", gap: "4px", alignItems: "center" });
    const label = made("label", "", { flex: 1, display: "flex", gap: "6px", alignItems: "center", font: mono, minHeight: "28px" });
    const box = made("input");
    box.type = "checkbox";
    box.value = name;
    box.checked = chosen.includes(name);
    label.append(box, name);
    item.append(label);
    for (const [text, by] of [["Up", -1], ["Down", 1]]) {
      const one = button(text, () => { move(item, by); one.focus(); });
      one.setAttribute("aria-label", `Move ${name} ${text.toLowerCase()}`);
      style(one, { marginRight: 0, padding: "1px 7px" });
      item.append(one);
    }
    list.append(item);
  }
  const read = () => `[${[...list.querySelectorAll("input:checked")].map((box) => JSON.stringify(box.value)).join(", ")}]`;
  return { element: list, read };
}

function tomlEditor(decision, called) {
  const value = made("textarea", "", { width: "100%", font: mono });
  value.value = decision.value;
  value.rows = Math.min(5, Math.ceil((decision.value.length + 1) / 46));
  value.setAttribute("aria-label", `${called}, as TOML`);
  return { element: value, read: () => value.value };
}

const EDITORS = { text: textEditor, "yes/no": switchEditor, columns: columnsEditor, toml: tomlEditor };

function entry(target, decision, found) {
  const part = made("section", "", { borderTop: "1px solid #d5dde4", padding: "10px 0" });
  const head = made("h3", decision.path.join("."), { font: "600 14px/1.4 ui-monospace, monospace", margin: 0 });
  const rule = decision.rule ? ` (rule: ${decision.rule})` : "";
  const why = made("p", [decision.by, decision.why].filter(Boolean).join(": ") + rule, { margin: "2px 0", color: "#4a5b6a" });
  const place = made("p", decision.place, { margin: "0 0 6px", font: mono });
  const said = made("pre", "", { whiteSpace: "pre-wrap", margin: "6px 0 0", font: mono });
  said.setAttribute("role", "status");
  const changed = () => { write.hidden = true; };
  const editor = EDITORS[decision.editor](decision, `Value of ${decision.key}`, found, changed);
  const write = button("Write", async () => {
    const { problem } = await send(target, decision, editor.read(), true);
    said.textContent = problem ?? "Written.";
    write.hidden = true;
  });
  write.hidden = true;
  editor.element.addEventListener("input", changed);
  const preview = button("Preview", async () => {
    const { diff, problem } = await send(target, decision, editor.read(), false);
    said.textContent = problem ?? (diff || "Nothing would change.");
    write.hidden = !diff;
  });
  const copy = button("Copy lines", async () => {
    const lines = decision.write.slice(0, decision.write.length - decision.value.length) + editor.read();
    await navigator.clipboard.writeText(lines);
    said.textContent = `Copied:\n${lines}`;
  });
  const acts = made("div", "", { marginTop: "6px" });
  acts.append(copy, preview, write);
  part.append(head, why, place, editor.element, acts, said);
  return part;
}

async function show(target) {
  const found = await decisionsOf(target.module);
  const related = target.related ? await decisionsOf(target.related) : null;
  panel.replaceChildren();
  const close = button("Close", leave);
  style(close, { float: "right" });
  panel.append(close);
  if (!found) {
    panel.append(made("p", "No decision made this."));
  } else {
    const { column, decisions } = fitting(found, target, related);
    const where = column ? `${found.table}.${column.column}  ${column.type}` : found.table;
    panel.append(made("h2", `${target.name}: ${where}`, { font: "600 16px/1.4 system-ui, sans-serif", margin: "0 0 8px" }));
    const all = [...decisions, ...(target.rights ? found.rights : [])];
    if (!all.length) panel.append(made("p", `Nothing is decided about it. ${found.file} is its file.`));
    panel.append(...all.map((each) => entry(target, each, found)));
  }
  panel.hidden = false;
  panel.focus({ preventScroll: true });
}

function mark(element) {
  if (marked) marked.style.outline = "";
  marked = element;
  if (marked) style(marked, { outline: "2px solid #c77d0a" });
}

function leave() {
  panel.hidden = true;
  mark(null);
  toggle.focus();
}

function turn(on) {
  isOn = on;
  toggle.setAttribute("aria-pressed", String(on));
  style(toggle, { background: on ? "#1c3d5a" : "#fff", color: on ? "#fff" : "#1c3d5a" });
  sessionStorage.setItem(KEPT, on ? "on" : "");
  if (!on) leave();
}

const isOwn = (element) => bar.contains(element) || panel.contains(element);
toggle.addEventListener("click", () => turn(!isOn));
addEventListener("pointerover", (event) => {
  if (isOn && panel.hidden && !isOwn(event.target)) mark(targetOf(event.target) ? event.target : null);
});
addEventListener("focusin", (event) => {
  if (isOn && panel.hidden && !isOwn(event.target)) mark(targetOf(event.target) ? event.target : null);
});
for (const kind of ["click", "pointerdown", "mousedown"]) {
  addEventListener(kind, (event) => {
    if (!isOn || isOwn(event.target)) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    chosen = targetOf(event.target);
    if (kind === "click" && chosen) {
      mark(event.target);
      show(chosen);
    }
  }, true);
}
addEventListener("keydown", (event) => {
  if (!isOn || event.key !== "Escape") return;
  event.stopImmediatePropagation();
  if (panel.hidden) turn(false); else leave();
}, true);
document.body.append(bar, panel);
if (sessionStorage.getItem(KEPT)) turn(true);
