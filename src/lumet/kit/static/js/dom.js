// Small things that several modules need.
export const isTyping = (target) =>
  Boolean(target.closest?.("input:not([type=checkbox], [type=radio]), textarea, select, [contenteditable], calendar-date"));

export const HOLD = 350; // ms until a touch takes what is moved, and no longer scrolls
export const FAR = 6; // pixels after which a press is a drag

// The first control of a form that one can write in or choose with.
export function firstControl(within) {
  const controls = within.querySelectorAll(
    ".fields :is(input:not([type=hidden]), textarea, select)");
  const first = [...controls].find((each) => !each.closest(".ts-dropdown") && !each.disabled);
  return first?.tomselect?.control_input ?? first;
}

export const controlOf = (each) => each?.tomselect?.control_input ?? each;

// A piece of a page, for a dialog or a part of the page that is shown.
export async function piece(address, options) {
  const asked = new URL(address, window.location.href);
  asked.searchParams.set("as-piece", "1");
  return fetch(asked, { credentials: "same-origin", ...options });
}

export const isPlainClick = (event) =>
  !(event.ctrlKey || event.metaKey || event.shiftKey || event.altKey || event.button);

// A text of the application's, with a number or a name in the place of its mark.
export function text(name, value = "") {
  const held = document.getElementById("texts")?.dataset[name] ?? "*";
  return held.replace("*", value);
}
