// A run while it is under way: where it writes, on the map; how far it is with its steps, and what is safe, beside it.
const RUNS = ["carry-out", "resume", "undo"];

export function followRun(events, map, renew) {
  let asked = false;
  events.addEventListener("message", (message) => {
    const state = JSON.parse(message.data);
    if (!RUNS.includes(state.kind) || state.ended) {
      asked = false;
      return;
    }
    const box = document.querySelector(".the-run");
    if (!box || box.dataset.run !== state.kind) {
      if (!asked) renew(); // the page is about the run from now on
      asked = true;
      return;
    }
    map.goesOn({ kind: state.kind, step: state.step, written: state.written });
    for (const li of box.querySelectorAll("[data-of]")) {
      const of = Number(li.dataset.of);
      const how = of < state.step ? "done" : of === state.step ? "here" : "open";
      if (li.className === how) continue;
      li.className = how;
      li.querySelector("[data-state]").textContent = SAID[how];
      if (how === "here") li.setAttribute("aria-current", "step");
      else li.removeAttribute("aria-current");
    }
    box.querySelector("[data-back]").hidden = Boolean(state.final);
    box.querySelector("[data-final]").hidden = !state.final;
  });
}

const SAID = { done: ", done", here: ", now", open: "" };
