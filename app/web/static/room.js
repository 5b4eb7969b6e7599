// The bench by itself: the work in each bay as it goes on, and the room as it is then when something has begun or ended,
// or somebody asks the lead.
export function room(main, renew) {
  const events = new EventSource(main.dataset.room);
  const shown = () =>
    [...new Set([...main.querySelectorAll("[data-work]")].map((e) => e.dataset.work))].sort().join(" ");
  let renewing = false;
  events.onmessage = async (message) => {
    const { work, asks } = JSON.parse(message.data);
    if (Object.keys(work).sort().join(" ") !== shown() || String(asks) !== main.dataset.asks) {
      if (renewing) return;
      renewing = true;
      main.dataset.asks = asks;
      await renew();
      renewing = false;
      return;
    }
    for (const place of main.querySelectorAll("[data-work]")) goesOn(place, work[place.dataset.work]);
  };
  addEventListener("pagehide", () => events.close());
  return events;
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
