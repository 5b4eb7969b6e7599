// Follows the work on a drive through server-sent events, reconnecting by itself; when work ends that was seen
// running, ended is called, once.
export function watchWork(box, ended) {
  const bar = box.querySelector("progress"),
    left = box.querySelector("[data-left]");
  let running = box.dataset.busy === "true";
  const called = document.title.replace(/^\d+ % · /, "");
  const notice = box.querySelector("[data-notice]");
  const askable = () => "Notification" in window && Notification.permission === "default";
  if (notice) {
    notice.hidden = !running || !askable();
    notice.addEventListener("click", async () => {
      await Notification.requestPermission();
      notice.hidden = true;
    });
  }

  // over shows the page as it is then, and tells it to who looks elsewhere.
  async function over(title) {
    document.title = called;
    await ended();
    if ("Notification" in window && Notification.permission === "granted" && document.hidden)
      new Notification(called, {
        body: document.getElementById("work")?.querySelector("[data-line]")?.textContent || title,
      });
  }
  const events = new EventSource(box.dataset.url);
  events.onmessage = (message) => {
    const s = JSON.parse(message.data);
    if (s.ended || !s.kind) {
      // no work that is known of: the program was started anew
      if (running) over(s.title);
      running = false;
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
    if (s.total) document.title = `${s.percent} % · ${called}`;
    if (notice) notice.hidden = !askable();
  };
  addEventListener("pagehide", () => events.close());
  return events;
}
