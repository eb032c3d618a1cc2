// Loads the page again when another version is served, and shows what is wrong with a
// change that is not in effect. Only lumet serve adds this script.
const script = document.currentScript;
const EVERY = 300; // milliseconds
const PLACE = "lumet-scroll";
let isTyped = false; // what was typed is not thrown away
let box = null;

function keepPlace() {
  const inner = [...document.querySelectorAll(".scroll")].map((each) => [each.scrollLeft, each.scrollTop]);
  const kept = { path: location.pathname + location.search, top: scrollY, left: scrollX, inner };
  sessionStorage.setItem(PLACE, JSON.stringify(kept));
}

function restorePlace() {
  const kept = JSON.parse(sessionStorage.getItem(PLACE) ?? "null");
  sessionStorage.removeItem(PLACE);
  if (kept?.path !== location.pathname + location.search) return;
  scrollTo(kept.left, kept.top);
  document.querySelectorAll(".scroll").forEach((each, place) => {
    [each.scrollLeft, each.scrollTop] = kept.inner[place] ?? [0, 0];
  });
}

function show(text, button) {
  box ??= document.createElement("section");
  box.setAttribute("role", "alert");
  box.setAttribute("aria-label", "lumet serve");
  Object.assign(box.style, {
    position: "fixed", inset: "auto 0 0 0", zIndex: 10000, maxHeight: "45vh", overflow: "auto",
    padding: "12px 20px", background: "#7a1220", color: "#fff", font: "14px/1.5 ui-monospace, monospace",
    whiteSpace: "pre-wrap", borderTop: "3px solid #fff",
  });
  box.replaceChildren(text);
  if (button) {
    const again = document.createElement("button");
    again.textContent = button;
    Object.assign(again.style, { marginLeft: "16px", font: "inherit", padding: "2px 12px" });
    again.addEventListener("click", () => location.reload());
    box.append(again);
    box.style.background = "#1c3d5a";
  }
  if (!box.isConnected) document.body.append(box);
}

async function look() {
  let state;
  try {
    const answer = await fetch(new URL("state", script.src), { cache: "no-store" });
    if (answer.status === 404) return; // served to another machine
    state = await answer.json();
  } catch {
    setTimeout(look, EVERY * 4); // the server is being started again
    return;
  }
  if (String(state.version) !== script.dataset.version) {
    if (!isTyped) {
      keepPlace();
      location.reload();
      return;
    }
    show("This page has changed. What you typed is still here.", "Load the page again");
  } else if (state.problem) {
    show(state.problem);
  } else {
    box?.remove();
  }
  setTimeout(look, document.hidden ? EVERY * 10 : EVERY);
}

addEventListener("input", (event) => {
  isTyped ||= Boolean(event.target.form) && event.target.form.method !== "get";
});
addEventListener("submit", () => { isTyped = false; });
restorePlace();
look();
if (script.dataset.token) import(new URL("inspect.js", script.src));
