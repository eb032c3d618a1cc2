// Coming back to a page that one left, the focus is where it was: after a save, a delete, a
// panel that was closed, a page of a list, an order.
const KEY = "focus";
const MOST = 20;
const read = () => JSON.parse(window.sessionStorage.getItem(KEY) ?? "{}");

function describe(element) {
  const row = element.closest("table[data-list] tbody tr");
  if (row) {
    const rows = [...row.parentElement.rows];
    return { row: row.querySelector("a.title")?.getAttribute("href"), place: rows.indexOf(row) };
  }
  const named = element.dataset.focus ?? element.id;
  if (named) return { id: named };
  if (element.matches("a[href]")) return { text: element.textContent.trim() };
  return null;
}

function find(left) {
  if (left.id) return document.getElementById(left.id);
  if (left.text) {
    return [...document.querySelectorAll("main a[href]")]
      .find((each) => each.textContent.trim() === left.text);
  }
  const rows = [...document.querySelectorAll("table[data-list] tbody tr")];
  const same = rows.find((row) => row.querySelector("a.title")?.getAttribute("href") === left.row);
  return (same ?? rows[Math.min(left.place, rows.length - 1)])?.querySelector("a.title");
}

let last = null;
document.addEventListener("focusin", (event) => { last = event.target; });
document.addEventListener("click", (event) => {
  last = event.target.closest("a[href], button, input") ?? last;
}, true);
window.addEventListener("pagehide", () => {
  const left = last?.closest("main") ? describe(last) : null;
  const all = read();
  delete all[window.location.pathname];
  if (left) all[window.location.pathname] = left;
  const kept = Object.entries(all).slice(-MOST);
  window.sessionStorage.setItem(KEY, JSON.stringify(Object.fromEntries(kept)));
});

const from = document.referrer && new URL(document.referrer).origin === window.location.origin;
const left = from ? read()[window.location.pathname] : null;
const isTaken = document.activeElement && document.activeElement !== document.body;
if (left && !isTaken) {
  const element = find(left);
  if (element) {
    element.closest("table[data-list]")?.dispatchEvent(new CustomEvent("stop-at", { detail: element }));
    element.focus();
    last = element;
  }
}
