// Shows the state of the trail's chain while it is being checked.
export function chain(box) {
  const ask = async () => {
    try {
      const answer = await fetch(box.dataset.url);
      if (!answer.ok) return;
      const running = answer.headers.get("X-Running") === "true";
      const part = new DOMParser().parseFromString(await answer.text(), "text/html");
      box.replaceChildren(...part.body.childNodes);
      if (running) setTimeout(ask, 1500);
    } catch {
      /* the page shows what was known when it was made */
    }
  };
  if (box.dataset.running === "true") setTimeout(ask, 800);
}
