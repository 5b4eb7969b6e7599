// Follows the work on a drive through server-sent events, reconnecting by itself;
// when work ends that was seen running, the page is loaded anew.
export function watchWork(box) {
  const bar = box.querySelector("progress"),
    left = box.querySelector("[data-left]");
  let running = box.dataset.busy === "true";
  // Who is on the way to another page is not called back to this one. A download
  // looks like leaving too, so the page is loaded anew if it is still there later.
  let leaving = false,
    ended = false,
    anew = false;
  const load = () => {
    if (!ended || leaving || anew) return;
    anew = true;
    location.reload();
  };
  addEventListener("beforeunload", () => {
    leaving = true;
    setTimeout(() => {
      leaving = false;
      load();
    }, 3000);
  });
  const events = new EventSource(box.dataset.url);
  events.onmessage = (message) => {
    const s = JSON.parse(message.data);
    if (s.ended || !s.kind) {
      // no work that is known of: the program was started anew
      ended = running;
      load();
      return;
    }
    running = true;
    box.hidden = false;
    const title = box.querySelector("strong") ?? box.insertBefore(document.createElement("strong"), box.firstChild);
    title.textContent = s.title;
    const line =
      box.querySelector("[data-line]") ??
      title.insertAdjacentElement("afterend", Object.assign(document.createElement("span"), { className: "" }));
    line.dataset.line = "";
    line.textContent = [s.phase, s.line].filter(Boolean).join(", ");
    for (const x of box.querySelectorAll("[data-going]")) x.hidden = false;
    bar.hidden = !s.total;
    bar.value = s.percent;
    left.textContent = s.left;
  };
  addEventListener("pagehide", () => events.close());
  return events;
}
