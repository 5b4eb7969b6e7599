// Acts that change the plan are sent without leaving the page: its parts come anew from the
// answer, which is the same page. Without this module the forms work as they are.
export function soft(map, renewed) {
  async function send(url, body) {
    document.body.setAttribute("aria-busy", "true");
    try {
      const answer = await fetch(url, { method: "POST", body });
      if (!answer.ok || !answer.url.includes("/jobs/")) throw new Error();
      take(new DOMParser().parseFromString(await answer.text(), "text/html"));
    } catch {
      location.reload(); // the page as it is, with what was said
    } finally {
      document.body.removeAttribute("aria-busy");
    }
  }

  function take(page) {
    const focused = document.activeElement,
      id = focused?.id,
      inMap = focused?.closest("#map, #hand");
    const open = [...document.querySelectorAll("[data-part] details[open] > summary")].map((s) => s.textContent);
    for (const part of document.querySelectorAll("[data-part]")) {
      const next = page.querySelector(`[data-part="${part.dataset.part}"]`);
      if (!next) continue;
      const at = part.scrollTop;
      part.replaceWith(next);
      next.scrollTop = at;
    }
    for (const s of document.querySelectorAll("[data-part] details > summary"))
      if (open.includes(s.textContent)) s.parentElement.open = true;
    document.querySelector(".flash")?.remove();
    const flash = page.querySelector(".flash");
    if (flash) {
      flash.classList.add("floating"); // what is below it stays where it is
      document.querySelector("header.top").after(flash);
    }
    document.getElementById("plan-news")?.remove();
    map.update(JSON.parse(page.getElementById("map-data").textContent));
    renewed();
    if (inMap) map.focus();
    else if (id) document.getElementById(id)?.focus();
  }

  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (!form.matches("[data-soft]")) return;
    event.preventDefault();
    const data = new FormData(form, event.submitter);
    send(form.action, new URLSearchParams([...data].filter(([, v]) => typeof v === "string")));
  });
  return send;
}

// news tells that somebody else has changed the plan that this page shows.
export function news(events, shown) {
  events.addEventListener("plan", (event) => {
    const change = JSON.parse(event.data);
    setTimeout(() => {
      // what was changed here comes back as news too
      if (shown(change.plan) || document.getElementById("plan-news")) return;
      const bar = document.createElement("div");
      bar.id = "plan-news";
      bar.className = "flash care floating";
      bar.setAttribute("role", "status");
      bar.append(
        change.who
          ? `${change.who} has changed this plan: ${change.what}. `
          : "This plan was carried out or taken back. ",
      );
      const show = document.createElement("button");
      show.className = "act ghost";
      show.textContent = "Show it as it is now";
      show.addEventListener("click", () => location.reload());
      bar.append(show);
      document.querySelector("header.top").after(bar);
    }, 1500);
  });
}
