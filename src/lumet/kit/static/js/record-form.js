// The form of a record: its lookups, its rows, what is added in a dialog on the way; Ctrl S
// saves, and leaving a changed form asks first.
import { controlOf, firstControl, piece } from "./dom.js";
import { prepareRows } from "./detail-rows.js";
import { prepare } from "./inputs.js";
import { enhanceAll } from "./lookups.js";

const WRONG = ".wrong :is(input:not([type=hidden]), select, textarea)";

// What a lookup refers to is added in a dialog, and chosen when that was saved.
function addInDialog(link) {
  link.addEventListener("click", async (event) => {
    event.preventDefault();
    const dialog = document.createElement("dialog");
    dialog.setAttribute("aria-label", link.textContent);
    const lookup = document.getElementById(link.dataset.add).tomselect;
    const show = (html) => {
      dialog.innerHTML = html;
      prepare(dialog);
      enhanceAll(dialog);
      dialog.querySelector("[data-leave]").addEventListener("click", () => dialog.close());
      dialog.querySelector("form").addEventListener("submit", send);
      (controlOf(dialog.querySelector(WRONG)) ?? firstControl(dialog))?.focus();
    };
    const send = async (submitted) => {
      submitted.preventDefault();
      const body = new FormData(submitted.target);
      const answer = await piece(link.href, { method: "POST", body });
      if (!(answer.headers.get("Content-Type") ?? "").includes("json")) {
        show(await answer.text());
        return;
      }
      const made = await answer.json();
      if (made.value !== undefined) {
        lookup.addOption(made);
        lookup.setValue(String(made.value));
      }
      dialog.close();
    };
    dialog.addEventListener("close", () => {
      dialog.remove();
      lookup.focus();
    });
    document.body.append(dialog);
    show(await (await piece(link.href)).text());
    dialog.showModal();
    firstControl(dialog)?.focus();
  });
}

const form = document.querySelector("form[data-record]");
if (form) {
  prepare(form);
  enhanceAll(form);
  prepareRows(form);
  for (const link of form.querySelectorAll("a[data-add]")) addInDialog(link);
  // what the browser refuses in a folded section is shown
  form.addEventListener("invalid", (event) => event.target.closest("details")?.setAttribute("open", ""), true);
  document.addEventListener("keydown", (event) => {
    if (!(event.ctrlKey || event.metaKey) || event.key !== "s") return;
    event.preventDefault();
    form.requestSubmit();
  });
  let changed = false;
  let sent = false;
  const change = (event) => { changed ||= !event.target.matches("[data-after]"); };
  form.addEventListener("input", change);
  form.addEventListener("change", change);
  form.addEventListener("submit", (event) => {
    if (event.submitter?.name === "find-for") return;
    if (sent) event.preventDefault(); // it is on its way
    sent = true;
  });
  window.addEventListener("pageshow", () => { sent = false; });
  window.addEventListener("beforeunload", (event) => {
    if (changed && !sent) event.preventDefault();
  });
  const first = controlOf(form.querySelector(WRONG)) ?? firstControl(form);
  first?.focus({ preventScroll: !form.querySelector(WRONG) });
}

// a form for the value of several records has the same controls
const several = document.querySelector("form[data-value]");
if (several) {
  prepare(several);
  enhanceAll(several);
  firstControl(several)?.focus();
}
