// Cards for which the page had no time come one after the other.
import { drawCharts } from "./charts.js";
import { piece } from "./dom.js";

async function fill(card) {
  const said = await piece(card.dataset.figure).catch(() => null);
  if (!said?.ok) {
    card.removeAttribute("aria-busy"); // its link is still there
    return;
  }
  const made = document.createElement("template");
  made.innerHTML = await said.text();
  const fresh = made.content.querySelector("section, a");
  card.replaceWith(fresh);
  drawCharts(fresh);
}

async function fillAll() {
  for (const card of document.querySelectorAll("[data-figure]")) await fill(card);
}

fillAll();
