// Controls that HTML has not: steps of numbers, a colour beside its text, areas that grow,
// the camera for pictures.
import { enhanceDates } from "./date-input.js";
import { text } from "./dom.js";

function step(event) {
  const input = event.target;
  const way = { ArrowUp: 1, ArrowDown: -1 }[event.key];
  const plain = input.value.trim();
  if (!way || event.altKey || !/^[+-]?\d*\.?\d*$/.test(plain)) return;
  event.preventDefault();
  const size = input.dataset.step;
  const digits = Math.max((plain.split(".")[1] ?? "").length, (size.split(".")[1] ?? "").length);
  const lowest = Number(input.dataset.lowest ?? -Infinity);
  const highest = Number(input.dataset.highest ?? Infinity);
  const next = (Number(plain) || 0) + way * Number(size);
  input.value = Math.min(Math.max(next, lowest), highest).toFixed(digits);
  input.dispatchEvent(new Event("input", { bubbles: true }));
}

function addPicker(input) {
  const picker = document.createElement("input");
  const box = document.createElement("div");
  picker.type = "color";
  picker.className = "swatch";
  picker.setAttribute("aria-label", input.labels[0]?.textContent.trim() ?? input.getAttribute("aria-label") ?? "");
  const show = () => { if (/^#[0-9a-f]{6}$/i.test(input.value)) picker.value = input.value; };
  input.addEventListener("input", show);
  picker.addEventListener("input", () => { input.value = picker.value; });
  box.className = "with-swatch";
  input.replaceWith(box);
  box.append(input, picker);
  show();
}

// A device that is held takes pictures: by a button of its own, since `capture` alone would
// leave no way to those that it has already.
function addCamera(input) {
  if (!window.matchMedia("(pointer: coarse)").matches) return;
  const button = document.createElement("button");
  button.type = "button";
  button.className = "btn";
  button.textContent = text("camera");
  button.addEventListener("click", () => {
    input.setAttribute("capture", "environment");
    input.click();
    input.removeAttribute("capture");
  });
  input.after(button);
}

export function prepare(within) {
  for (const input of within.querySelectorAll("input[data-step]")) input.addEventListener("keydown", step);
  for (const input of within.querySelectorAll("input[data-colour]")) addPicker(input);
  for (const input of within.querySelectorAll("input[type=file][data-pictures]")) addCamera(input);
  enhanceDates(within);
  // a long text grows with what is written; most browsers do so by themselves
  if (CSS.supports("field-sizing", "content")) return;
  for (const area of within.querySelectorAll("textarea[data-grows]")) {
    const grow = () => { area.rows = Math.max(3, area.value.split("\n").length + 1); };
    area.addEventListener("input", grow);
    grow();
  }
}
