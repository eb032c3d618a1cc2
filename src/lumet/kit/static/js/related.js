// Related records load when they come into view, one block after the other, so that none is
// moved by another; sorting, searching and paging change the block alone.
import { announce } from "./announcer.js";
import { isPlainClick, piece } from "./dom.js";

async function load(block, address, isAsked) {
  const answer = await piece(address);
  if (!answer.ok || answer.redirected) return isAsked && window.location.assign(address);
  const held = block.contains(document.activeElement) ? document.activeElement : null;
  const name = held?.getAttribute("name") ?? held?.textContent.trim();
  const height = block.offsetHeight;
  block.innerHTML = await answer.text();
  if (block.offsetHeight < height) block.style.minHeight = `${height}px`; // nothing jumps
  block.dispatchEvent(new CustomEvent("rows-added", { bubbles: true }));
  if (!held) return;
  const same = [...block.querySelectorAll("a, input:not([type=hidden]), button")]
    .find((each) => (each.getAttribute("name") ?? each.textContent.trim()) === name);
  (same ?? block.querySelector("a, input:not([type=hidden])"))?.focus({ preventScroll: true });
  const count = block.querySelector("header .quiet");
  if (count) announce(count.textContent);
}

const late = [...document.querySelectorAll("section[data-late]")];
const watcher = new IntersectionObserver((seen) => {
  for (const each of seen) {
    if (!each.isIntersecting) continue;
    watcher.unobserve(each.target);
    load(each.target, each.target.dataset.block, false).finally(next);
  }
}, { rootMargin: "400px" });

function next() {
  const block = late.shift();
  if (!block) return;
  block.removeAttribute("data-late");
  watcher.observe(block);
}
next();

for (const block of document.querySelectorAll("section[data-block]")) {
  block.addEventListener("click", (event) => {
    const link = event.target.closest("th a, .pager a");
    if (!link || !isPlainClick(event)) return;
    event.preventDefault();
    load(block, link.href, true);
  });
  block.addEventListener("submit", (event) => {
    if (event.target.method !== "get") return;
    event.preventDefault();
    const asked = new URLSearchParams(new FormData(event.target));
    load(block, `${event.target.getAttribute("action")}?${asked}`, true);
  });
}
