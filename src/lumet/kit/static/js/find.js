// Finding anything: a dialog with what was found while one types; arrow keys move through
// it, Enter opens the first. Without a script it is a page.
import { announce } from "./announcer.js";
import { isPlainClick, piece, text } from "./dom.js";

const WAIT = 150; // ms after a letter, before the server is asked
const links = document.querySelectorAll("a[data-find-anything]");

export function openFind(address) {
  const held = document.querySelector("template[data-find-piece]");
  if (!held || document.querySelector("dialog[open]")) return;
  const before = document.activeElement;
  const dialog = document.createElement("dialog");
  dialog.className = "find-dialog";
  dialog.append(held.content.cloneNode(true));
  const input = dialog.querySelector("input");
  dialog.setAttribute("aria-label", input.getAttribute("aria-label"));
  const found = () => [...dialog.querySelectorAll(".found a")];
  let timer = 0;
  let request = new AbortController();
  let asked = "";
  let answer = Promise.resolve();
  const ask = () => {
    if (input.value.trim() === asked) return answer;
    asked = input.value.trim();
    answer = show();
    return answer;
  };
  const show = async () => {
    request.abort(); // or its answer would overtake this one's
    request = new AbortController();
    const wanted = new URL(address, window.location.href);
    wanted.searchParams.set("q", asked);
    const said = await piece(wanted, { signal: request.signal }).catch(() => null);
    const made = document.createElement("template");
    made.innerHTML = said?.ok ? await said.text() : "";
    const fresh = made.content.querySelector(".found");
    if (!fresh) {
      dialog.querySelector(".found").replaceChildren(); // nothing of what was asked before
      if (said && !request.signal.aborted) window.location.href = wanted; // it says why
      return;
    }
    dialog.querySelector(".found").replaceWith(fresh);
    if (asked) announce(text("found", found().length));
  };
  const now = () => {
    clearTimeout(timer);
    return ask();
  };
  input.addEventListener("input", () => {
    clearTimeout(timer);
    timer = setTimeout(now, WAIT);
  });
  dialog.querySelector("form").addEventListener("submit", async (event) => {
    event.preventDefault();
    await now();
    found()[0]?.click();
  });
  dialog.addEventListener("keydown", (event) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!step) return;
    event.preventDefault();
    const all = [input, ...found()];
    const place = Math.max(0, all.indexOf(document.activeElement)) + step;
    all[Math.min(Math.max(place, 0), all.length - 1)].focus();
  });
  dialog.querySelector("[data-close]").addEventListener("click", () => dialog.close());
  dialog.addEventListener("close", () => {
    request.abort();
    dialog.remove();
    before?.focus?.();
  });
  document.body.append(dialog);
  dialog.showModal();
  input.focus();
}

for (const link of links) {
  link.addEventListener("click", (event) => {
    if (!isPlainClick(event)) return;
    event.preventDefault();
    openFind(link.href);
  });
}

document.addEventListener("keydown", (event) => {
  const isFind = (event.ctrlKey || event.metaKey) && !event.altKey && !event.shiftKey && event.key === "k";
  if (!isFind || !links.length || event.defaultPrevented) return;
  event.preventDefault();
  openFind(links[0].href);
});
