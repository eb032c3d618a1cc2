// Entries that are moved: on a calendar to another day, on a board to another column. By
// pointer, by touch after a moment, and by Alt with the arrow keys. The server decides.
import { announce } from "./announcer.js";
import { FAR, HOLD, text } from "./dom.js";

const MOVED = "moved"; // the entry that has the focus after a page is read again

const home = document.querySelector("[data-moves]");

function complain(message) {
  document.querySelector(".note.moved")?.remove();
  const note = document.createElement("div");
  note.className = "note warn moved";
  note.setAttribute("role", "alert");
  note.textContent = message;
  document.querySelector("main h1").closest(".head").after(note);
  note.scrollIntoView({ block: "nearest" });
}

async function send(entry, from, to) {
  const sent = new URLSearchParams({ csrf_token: home.dataset.token });
  for (const [column, value] of Object.entries(JSON.parse(entry.dataset.was))) sent.set(`was-${column}`, value);
  if (home.dataset.moves === "7") {
    sent.set("from-day", from.dataset.target);
    sent.set("day", to.dataset.target);
  } else {
    sent.set("value", to.dataset.target);
  }
  home.setAttribute("aria-busy", "true");
  const said = await fetch(entry.dataset.move, { method: "POST", body: sent, credentials: "same-origin" }).catch(() => null);
  home.removeAttribute("aria-busy");
  const told = await said?.json().catch(() => ({})) ?? {};
  if (said?.ok && told.address) {
    window.location.href = told.address;
  } else if (said?.ok) {
    window.sessionStorage.setItem(MOVED, entry.getAttribute("href"));
    window.location.reload();
  } else {
    complain(told.message ?? text("unmoved"));
    entry.focus();
  }
}

function move(entry, to) {
  const from = entry.closest("[data-target]");
  if (to && to !== from) send(entry, from, to);
}

function neighbour(entry, key) {
  const all = [...home.querySelectorAll("[data-target]")];
  const row = Number(home.dataset.moves);
  const steps = { ArrowLeft: -1, ArrowRight: 1, ...(row > 1 ? { ArrowUp: -row, ArrowDown: row } : {}) };
  return steps[key] && all[all.indexOf(entry.closest("[data-target]")) + steps[key]];
}

if (home) {
  const moved = window.sessionStorage.getItem(MOVED);
  window.sessionStorage.removeItem(MOVED);
  const same = moved && [...home.querySelectorAll("[data-move]")].find((each) => each.getAttribute("href") === moved);
  if (same) {
    same.focus();
    const target = same.closest("[data-target]");
    announce(text("moved", target.dataset.name ?? target.querySelector(".full")?.textContent ?? ""));
  }

  home.addEventListener("keydown", (event) => {
    const entry = event.target.closest("[data-move]");
    if (!entry || !event.altKey || !event.key.startsWith("Arrow")) return;
    event.preventDefault(); // or the browser goes back
    move(entry, neighbour(entry, event.key));
  });

  let drag = null;
  const targetAt = (event) => document.elementFromPoint(event.clientX, event.clientY)?.closest("[data-moves] [data-target]");
  const end = () => {
    clearTimeout(drag?.timer);
    drag?.ghost?.remove();
    drag?.over?.classList.remove("over");
    drag?.entry.classList.remove("held");
    drag = null;
  };
  const begin = () => {
    const { entry } = drag;
    drag.ghost = entry.cloneNode(true);
    drag.ghost.classList.add("ghost");
    drag.ghost.removeAttribute("data-move");
    drag.ghost.style.width = `${entry.offsetWidth}px`;
    document.body.append(drag.ghost);
    entry.classList.add("held");
    entry.setPointerCapture?.(drag.id);
  };
  const follow = (event) => {
    drag.ghost.style.transform = `translate(${event.clientX + 8}px, ${event.clientY + 8}px)`;
    const over = targetAt(event);
    if (over === drag.over) return;
    drag.over?.classList.remove("over");
    over?.classList.add("over");
    drag.over = over;
  };
  home.addEventListener("dragstart", (event) => event.preventDefault()); // links are dragged by themselves
  home.addEventListener("pointerdown", (event) => {
    const entry = event.target.closest("[data-move]");
    if (!entry || event.button) return;
    drag = { entry, id: event.pointerId, x: event.clientX, y: event.clientY };
    if (event.pointerType !== "mouse") drag.timer = setTimeout(() => { begin(); follow(event); }, HOLD);
  });
  document.addEventListener("pointermove", (event) => {
    if (!drag || event.pointerId !== drag.id) return;
    const far = Math.hypot(event.clientX - drag.x, event.clientY - drag.y) > FAR;
    if (!drag.ghost && far) {
      if (event.pointerType === "mouse") begin();
      else { end(); return; } // it scrolls
    }
    if (drag?.ghost) follow(event);
  });
  document.addEventListener("pointerup", (event) => {
    if (!drag) return;
    const { entry, ghost, over } = drag;
    end();
    if (!ghost) return;
    // the click that follows, if one does, opens nothing
    const stop = (click) => { click.preventDefault(); click.stopPropagation(); };
    window.addEventListener("click", stop, { capture: true, once: true });
    setTimeout(() => window.removeEventListener("click", stop, { capture: true }), 0);
    move(entry, over ?? targetAt(event));
  });
  document.addEventListener("pointercancel", end);
  document.addEventListener("touchmove", (event) => { if (drag?.ghost) event.preventDefault(); }, { passive: false });
  home.addEventListener("contextmenu", (event) => { if (drag) event.preventDefault(); });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape" && drag) end(); });
}
