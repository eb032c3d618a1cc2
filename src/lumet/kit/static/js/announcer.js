// What changes without a new page is said to screen readers.
let region = null;

export function announce(text) {
  if (!region) {
    region = document.createElement("div");
    region.className = "visually-hidden";
    region.setAttribute("role", "status");
    document.body.append(region);
  }
  region.textContent = "";
  // a region that was empty a moment ago is read out even if it says the same again
  window.setTimeout(() => { region.textContent = text; }, 60);
}
