// Sends an image into the dock in pieces. When a piece does not arrive it is tried
// again; the same file chosen once more goes on where it was.
const PIECE = 4 << 20;

export function uploads(form, sent) {
  const field = form.querySelector("input[type=file]"),
    bar = form.querySelector("progress"),
    line = form.querySelector("[data-sent]"),
    button = form.querySelector("button");
  const say = (text, care) => {
    line.textContent = text;
    line.className = care ? "care" : "soft";
  };

  async function ask(url, options) {
    const answer = await fetch(url, options);
    const body = await answer.json().catch(() => ({ trouble: "The program did not answer as it should." }));
    return { status: answer.status, ...body };
  }

  async function send(file) {
    const begin = new URLSearchParams({ name: file.name, size: file.size, stamp: file.lastModified });
    let state = await ask(form.dataset.upload, { method: "POST", body: begin });
    if (state.trouble) return say(state.trouble, true);
    bar.hidden = false;
    for (let failed = 0; state.received < file.size;) {
      const at = state.received;
      try {
        const next = await ask(`${form.dataset.upload}/${state.id}?at=${at}`, {
          method: "PUT",
          body: file.slice(at, at + PIECE),
        });
        if (next.trouble) return say(next.trouble, true);
        state = { ...state, received: next.received };
        failed = 0;
      } catch {
        if (++failed > 20)
          return say("The connection is gone. Send the same file again, and it goes on where it was.", true);
        await new Promise((done) => setTimeout(done, 1000 * Math.min(failed, 10)));
      }
      bar.value = (state.received * 100) / file.size;
      say(`${(state.received / 2 ** 20).toFixed(0)} of ${(file.size / 2 ** 20).toFixed(0)} MiB`);
    }
    sent();
  }

  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const file = field.files[0];
    if (!file) return;
    if (file.size > Number(form.dataset.most))
      return say("There is not enough room in the dock for this file; nothing was sent.", true);
    button.disabled = true;
    await send(file).catch((e) => say(`Sending did not work: ${e.message}`, true));
    button.disabled = false;
  });
}
