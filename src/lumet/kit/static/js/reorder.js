// Lists that are put in order: by their buttons, which move an entry without the server,
// by arrow keys on them, and by dragging; by touch after a moment, before which it scrolls.
import { announce } from "./announcer.js";
import { FAR, HOLD, text } from "./dom.js";

for (const list of document.querySelectorAll("[data-reorder]")) {
  const entries = () => [...list.children];
  const said = (entry) => {
    const all = entries();
    announce(text("position", `${all.indexOf(entry) + 1}/${all.length}`));
  };
  const move = (entry, step) => {
    const other = step < 0 ? entry.previousElementSibling : entry.nextElementSibling;
    if (!other) return;
    if (step < 0) other.before(entry);
    else other.after(entry);
    said(entry);
  };
  list.addEventListener("click", (event) => {
    const button = event.target.closest("button[name=up], button[name=down]");
    if (!button) return;
    event.preventDefault();
    move(button.closest("li"), button.name === "up" ? -1 : 1);
    button.focus();
  });
  list.addEventListener("keydown", (event) => {
    const step = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    const button = event.target.closest("button");
    if (!step || !button) return;
    event.preventDefault();
    move(button.closest("li"), step);
    button.focus();
  });
  let held = null;
  let pressed = null; // what becomes a drag: of a mouse that moves, of a touch that stays
  const take = () => {
    held = pressed.entry;
    held.classList.add("held");
    list.setPointerCapture(pressed.pointer);
  };
  const forget = () => {
    clearTimeout(pressed?.timer);
    pressed = null;
  };
  list.addEventListener("pointerdown", (event) => {
    const entry = event.target.closest("li");
    if (!entry || event.button || event.target.closest("button, input, a")) return;
    pressed = { entry, pointer: event.pointerId, x: event.clientX, y: event.clientY };
    if (event.pointerType !== "mouse") pressed.timer = setTimeout(take, HOLD);
    else event.preventDefault(); // or the text is selected
  });
  list.addEventListener("pointermove", (event) => {
    if (pressed && !held && Math.hypot(event.clientX - pressed.x, event.clientY - pressed.y) > FAR) {
      if (event.pointerType === "mouse") take();
      else forget();
    }
    if (!held) return;
    const over = entries().find((each) => {
      const box = each.getBoundingClientRect();
      const isIn = event.clientX > box.left && event.clientX < box.right && event.clientY > box.top && event.clientY < box.bottom;
      return each !== held && isIn;
    });
    if (!over) return;
    const box = over.getBoundingClientRect();
    if (event.clientY < box.top + box.height / 2) over.before(held);
    else over.after(held);
  });
  const drop = () => {
    forget();
    held?.classList.remove("held");
    if (held) said(held);
    held = null;
  };
  list.addEventListener("pointerup", drop);
  list.addEventListener("pointercancel", drop); // it scrolls
  list.addEventListener("touchmove", (event) => { if (held) event.preventDefault(); }, { passive: false });
  list.addEventListener("contextmenu", (event) => { if (held) event.preventDefault(); });
}
