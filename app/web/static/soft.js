import { exchange } from "./exchange.js";

// Acts that change the plan are sent without leaving the page, and what has changed meanwhile is fetched: its parts
// come from the answer, which is the same page. Without this module the forms work as they are.
export function soft(map, renewed) {
  // bring shows the page as it is now, as the answer to a form that was sent or as asked for.
  async function bring(url, options, used) {
    document.body.setAttribute("aria-busy", "true");
    try {
      const answer = await fetch(url, options);
      if (answer.status === 401) {
        // The session has ended: sent as a page of its own, what was typed is kept while one signs in.
        natively(url, options);
        return;
      }
      const there = new URL(answer.url).pathname === location.pathname;
      if (!answer.ok || !there || !take(new DOMParser().parseFromString(await answer.text(), "text/html"), used))
        location.reload(); // the page as it is, with what was said
    } catch {
      location.reload();
    } finally {
      document.body.removeAttribute("aria-busy");
    }
  }

  function natively(url, options) {
    if (options?.method !== "POST") return location.reload();
    const form = document.createElement("form");
    Object.assign(form, { method: "post", action: url, hidden: true });
    for (const [name, value] of new URLSearchParams(options.body)) {
      const field = document.createElement("input");
      Object.assign(field, { type: "hidden", name, value });
      form.append(field);
    }
    document.body.append(form);
    form.submit();
  }

  function take(page, used) {
    const inMap = document.activeElement?.closest("#map, #hand");
    const data = page.getElementById("map-data");
    if (!map !== !data || !exchange(page, used)) return false;
    document.querySelector(".flash")?.remove();
    const flash = page.querySelector(".flash");
    if (flash) {
      flash.classList.add("floating"); // what is below it stays where it is
      document.querySelector("header.top").after(flash);
    }
    map?.update(JSON.parse(data.textContent));
    renewed();
    if (inMap) map.focus();
    return true;
  }

  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (!form.matches("[data-soft]")) return;
    event.preventDefault();
    const data = new FormData(form, event.submitter);
    const body = new URLSearchParams([...data].filter(([, v]) => typeof v === "string"));
    bring(form.action, { method: "POST", body }, form);
  });
  return {
    send: (url, body) => bring(url, { method: "POST", body }),
    renew: () => bring(location.href),
  };
}

// answers tells what the lead has said to a request of this job, and shows the page as it is then.
export function answers(events, renew) {
  events.addEventListener("answer", async (event) => {
    const { yes, who, what, why } = JSON.parse(event.data);
    await renew();
    document.querySelector(".flash.floating")?.remove();
    const bar = document.createElement("div");
    bar.className = `flash floating ${yes ? "sound" : "care"}`;
    bar.setAttribute("role", "status");
    bar.textContent = `${who} says ${yes ? "yes" : "no"} to: ${what}. ${why}`;
    document.querySelector("header.top").after(bar);
  });
}

// news tells that somebody else has changed the plan that this page shows.
export function news(events, shown, renew) {
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
          : `This plan is there no more${change.ended ? `: it was ${change.ended}` : ""}. `,
      );
      const show = document.createElement("button");
      show.className = "act ghost";
      show.textContent = "Show it as it is now";
      show.addEventListener("click", renew);
      bar.append(show);
      document.querySelector("header.top").after(bar);
    }, 1500);
  });
}
