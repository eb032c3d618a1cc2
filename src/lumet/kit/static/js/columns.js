// The columns of a list: moved by dragging a heading, or Alt with ← and → on it, and made
// wider at its edge, or by Alt and Shift with ← and →. The server keeps both.
import { announce } from "./announcer.js";
import { text } from "./dom.js";

const STEP = 16; // pixels of one press of a key
const LEAST = 40;
const FAR = 6; // pixels after which a press on a heading is a drag
const MOVED = "moved-column";

const table = document.querySelector("table[data-columns]");

if (table) {
  // of narrower windows some columns are hidden, the last ones
  const cells = () => [...table.tHead.rows[0].cells].filter((each) => each.offsetParent !== null);
  const heads = () => cells().filter((each) => each.dataset.key);
  const movable = () => heads().slice(1); // the titles stay in front
  const send = (sent) => {
    const body = new URLSearchParams({ csrf_token: table.dataset.token, "list-query": table.dataset.query, ...sent });
    return body;
  };
  const post = (body) => fetch(table.dataset.columns, { method: "POST", body, credentials: "same-origin", redirect: "manual", keepalive: true });

  // widths
  const fix = () => {
    if (table.querySelector("colgroup")) return;
    const group = document.createElement("colgroup");
    const widths = cells().map((each) => each.offsetWidth);
    for (const width of widths) {
      const column = document.createElement("col");
      column.width = width;
      group.append(column);
    }
    table.caption.after(group);
    table.classList.add("fixed");
  };
  const widen = (head, width) => {
    fix();
    table.querySelectorAll("col")[cells().indexOf(head)].width = Math.max(LEAST, Math.round(width));
  };
  const keepWidths = () => {
    const columns = table.querySelectorAll("col");
    const words = heads().map((each) => `${each.dataset.key}:${columns[cells().indexOf(each)].width || each.offsetWidth}`);
    post(send({ widths: words.join(",") })).catch(() => {});
  };

  // order
  const move = async (head, before) => {
    const order = movable();
    const others = order.filter((each) => each !== head);
    const place = before ? others.indexOf(before) : others.length;
    others.splice(place, 0, head);
    if (others.every((each, n) => each === order[n])) return;
    const body = send({});
    for (const each of others) body.append("column", each.dataset.key);
    await post(body).catch(() => null);
    window.sessionStorage.setItem(MOVED, head.dataset.key);
    const address = new URL(window.location.href);
    address.searchParams.delete("columns"); // or it would win over what was kept
    window.location.replace(address);
    if (address.href === window.location.href) window.location.reload();
  };
  const key = window.sessionStorage.getItem(MOVED);
  window.sessionStorage.removeItem(MOVED);
  const same = key && heads().find((each) => each.dataset.key === key);
  if (same) {
    (same.querySelector("a") ?? same).focus();
    announce(text("position", `${heads().indexOf(same)}/${heads().length - 1}`));
  }

  table.tHead.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const head = event.target.closest("th[data-key]");
    if (!step || !head || !event.altKey) return;
    event.preventDefault(); // or the browser goes back
    event.stopPropagation();
    if (event.shiftKey) {
      widen(head, head.offsetWidth + step * STEP);
      keepWidths();
      return;
    }
    const order = movable();
    const place = order.indexOf(head);
    if (place < 0 || !order[place + step]) return;
    move(head, step < 0 ? order[place - 1] : order[place + 2] ?? null);
  }, true);

  let drag = null;
  for (const head of heads()) {
    const edge = document.createElement("span");
    edge.className = "edge";
    edge.setAttribute("aria-hidden", "true");
    head.append(edge);
  }
  table.tHead.addEventListener("dragstart", (event) => event.preventDefault());
  table.tHead.addEventListener("pointerdown", (event) => {
    const head = event.target.closest("th[data-key]");
    if (!head || event.button || event.target.closest("input")) return;
    const isEdge = event.target.classList.contains("edge");
    if (!isEdge && (!movable().includes(head) || event.pointerType !== "mouse")) return;
    drag = { head, isEdge, x: event.clientX, width: head.offsetWidth };
    if (isEdge) event.preventDefault();
  });
  document.addEventListener("pointermove", (event) => {
    if (!drag) return;
    if (drag.isEdge) {
      widen(drag.head, drag.width + event.clientX - drag.x);
      return;
    }
    if (!drag.moves && Math.abs(event.clientX - drag.x) < FAR) return;
    drag.moves = true;
    drag.head.classList.add("held");
    const over = document.elementFromPoint(event.clientX, event.clientY)?.closest("th[data-key]");
    for (const each of heads()) each.classList.toggle("over", each === over && each !== drag.head);
    drag.over = movable().includes(over) ? over : null;
  });
  document.addEventListener("pointerup", () => {
    if (!drag) return;
    const { head, isEdge, moves, over } = drag;
    drag = null;
    for (const each of heads()) each.classList.remove("over", "held");
    if (!isEdge && !moves) return;
    const stop = (click) => { click.preventDefault(); click.stopPropagation(); };
    window.addEventListener("click", stop, { capture: true, once: true });
    setTimeout(() => window.removeEventListener("click", stop, { capture: true }), 0);
    if (isEdge) keepWidths();
    else if (over) {
      const order = movable();
      const behind = order.indexOf(over) > order.indexOf(head);
      move(head, behind ? order[order.indexOf(over) + 1] ?? null : over);
    }
  });
  document.addEventListener("pointercancel", () => { drag = null; });
}
