// Keys that work anywhere on a page; "?" lists them. Single letters can be switched off.
import { isPlainClick, isTyping, piece } from "./dom.js";
import { openFind } from "./find.js";

const isOff = () => document.body.dataset.shortcuts === "off";

async function help(address) {
  const before = document.activeElement;
  const dialog = document.createElement("dialog");
  dialog.className = "keys-help";
  dialog.innerHTML = await (await piece(address)).text();
  dialog.setAttribute("aria-label", dialog.querySelector("h2").textContent);
  dialog.querySelector("[data-close]").addEventListener("click", () => dialog.close());
  dialog.addEventListener("close", () => {
    dialog.remove();
    before?.focus?.();
  });
  document.body.append(dialog);
  dialog.showModal();
}

const link = document.querySelector("a[data-keys]");
link?.addEventListener("click", (event) => {
  if (!isPlainClick(event)) return;
  event.preventDefault();
  help(link.href);
});

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) return;
  if (document.querySelector("dialog[open]")) return;
  if (event.shiftKey && ["PageUp", "PageDown"].includes(event.key)) {
    const rel = event.key === "PageUp" ? "prev" : "next";
    document.querySelector(`main a[rel=${rel}]`)?.click();
    return;
  }
  if (isTyping(event.target) || isOff()) return;
  if (event.key === "?" && link) {
    event.preventDefault();
    help(link.href);
    return;
  }
  const finder = document.querySelector("a[data-find-anything]");
  if (event.key === "/" && finder) {
    event.preventDefault();
    openFind(finder.href);
    return;
  }
  const found = document.querySelector(`main [data-key="${CSS.escape(event.key)}"]`);
  if (!found) return;
  event.preventDefault();
  if (found.matches("input")) found.focus();
  else found.click();
});
