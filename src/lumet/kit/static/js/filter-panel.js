// A panel above a list has the focus when it was opened; Escape closes it.
import { controlOf } from "./dom.js";
import { enhance } from "./lookups.js";
import { enhanceDates } from "./date-input.js";

const panel = document.querySelector(".panel");
if (panel) {
  for (const select of panel.querySelectorAll("select[data-lookup]")) enhance(select);
  enhanceDates(panel);
  // what was left empty does not stand in the address
  panel.addEventListener("formdata", (event) => {
    for (const [name, value] of [...event.formData]) if (!value) event.formData.delete(name);
  });
  const first = panel.querySelector(":is(input:not([type=hidden]), select, textarea, a, button)");
  controlOf(first)?.focus({ preventScroll: true });
  panel.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" || event.defaultPrevented) return;
    if (event.target.closest(".dropdown-active, dialog")) return;
    panel.querySelector("[data-close]").click();
  });
}
