// A panel above a list has the focus when it was opened; Escape closes it.
import { controlOf } from "./dom.js";
import { enhance } from "./lookups.js";
import { enhanceDates } from "./date-input.js";

const panel = document.querySelector(".panel");
if (panel) {
  for (const select of panel.querySelectorAll("select[data-lookup]")) enhance(select);
  enhanceDates(panel);
  // "is not" turns the choice around: it has another name in the address
  for (const box of panel.querySelectorAll("[data-negate]")) {
    box.addEventListener("change", () => {
      const [from, to] = box.checked ? ["is", "not"] : ["not", "is"];
      for (const each of panel.querySelectorAll(`[name="${box.dataset.negate}.${from}"]`)) each.name = `${box.dataset.negate}.${to}`;
    });
  }
  // of filters of which one is enough, some can hold in any case
  const match = panel.querySelector("select[name=match]");
  const always = () => { for (const each of panel.querySelectorAll("[data-always]")) each.hidden = match.value !== "any"; };
  match?.addEventListener("change", always);
  if (match) always();
  // what was left empty does not stand in the address
  panel.addEventListener("formdata", (event) => {
    for (const [name, value] of [...event.formData]) if (!value) event.formData.delete(name);
  });
  const first = panel.querySelector("[autofocus]") ?? panel.querySelector(":is(input:not([type=hidden]), select, textarea, a, button)");
  controlOf(first)?.focus({ preventScroll: true });
  if (first?.autofocus) first.scrollIntoView({ block: "center" });
  panel.addEventListener("keydown", (event) => {
    if (event.key !== "Escape" || event.defaultPrevented) return;
    if (event.target.closest(".dropdown-active, dialog")) return;
    panel.querySelector("[data-close]").click();
  });
}
