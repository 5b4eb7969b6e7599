// The bench by itself: the work in each bay as it goes on, and the room as it is then when something has begun or ended,
// or somebody asks the lead. Nobody is kept waiting for a tab that nobody looks at: it watches while it is seen.
export function room(main, renew) {
  let events = null,
    renewing = false;
  const shown = () =>
    [...new Set([...main.querySelectorAll("[data-work]")].map((e) => e.dataset.work))].sort().join(" ");

  async function hear(message) {
    const { work, asks } = JSON.parse(message.data);
    if (Object.keys(work).sort().join(" ") === shown() && String(asks) === main.dataset.asks) {
      for (const place of main.querySelectorAll("[data-work]")) goesOn(place, work[place.dataset.work]);
    } else if (!renewing) {
      renewing = true;
      main.dataset.asks = asks;
      await renew();
      renewing = false;
    }
  }

  function watch() {
    events?.close();
    events = document.hidden ? null : new EventSource(main.dataset.room);
    if (events) events.onmessage = hear;
  }
  document.addEventListener("visibilitychange", watch);
  addEventListener("pagehide", () => events?.close());
  watch();
}

// goesOn shows how far the work has come, in a bay or in a line.
function goesOn(place, state) {
  const climb = place.querySelector(".climb");
  climb?.setAttribute("height", (climb.ownerSVGElement.viewBox.baseVal.height * state.percent) / 100);
  const bar = place.querySelector("progress");
  if (!bar) return;
  bar.value = state.percent;
  place.querySelector("[data-title]").textContent = state.title;
  place.querySelector("[data-left]").textContent = state.left;
  place.querySelector("[data-line]").textContent = [state.phase, state.line].filter(Boolean).join(", ");
}
