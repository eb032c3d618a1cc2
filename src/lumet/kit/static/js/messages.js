// Messages that come with a page are not read out by themselves: only what is added to a
// region that is there already. So each is put in its place anew.
const SETTLED = 150; // milliseconds after which screen readers know the regions of a page

window.setTimeout(() => {
  for (const each of document.querySelectorAll(".note[role=status], .note[role=alert]")) {
    if (!each.contains(document.activeElement)) each.innerHTML = String(each.innerHTML);
  }
}, SETTLED);
