// What the pages do beyond plain HTML. Every part works on its own; without this
// module the pages are complete, with tables in place of drawings.
import { trailMap } from "./map.js";
import { watchWork } from "./progress.js";
import { amounts } from "./amount.js";
import { keys } from "./keys.js";
import { answers, soft, news } from "./soft.js";
import { goalForm } from "./goal.js";
import { uploads } from "./upload.js";
import { chain } from "./chain.js";
import { counter } from "./counter.js";
import { room } from "./room.js";
import { followRun } from "./run.js";
import { sheet } from "./sheet.js";

const data = document.getElementById("map-data");
const map = data
  ? trailMap(document.getElementById("map"), JSON.parse(data.textContent), (url, body) => page.send(url, body))
  : null;
const page = soft(map, bind);

// bind gives life to what has come onto the page, at first and whenever parts of it are exchanged.
const bound = new WeakSet();
const watched = new Map();
function each(selector, give) {
  for (const element of document.querySelectorAll(selector)) {
    if (bound.has(element)) continue;
    bound.add(element);
    give(element);
  }
}
function bind() {
  each("form[data-amount]", amounts);
  each("form[data-goal]", goalForm);
  each("form[data-upload]", (form) => uploads(form, page.renew));
  each("#chain", chain);
  each("[data-counter]", counter);
  each(".job .side", sheet);
  each("[data-room]", (main) => room(main, page.renew));
  each("[data-print]", (button) => button.addEventListener("click", () => print()));
  for (const [box, events] of watched) if (!box.isConnected && watched.delete(box)) events.close();
  each(".work[data-url]", (box) => {
    const events = watchWork(box, page.renew);
    answers(events, page.renew);
    if (map && box.id === "work") {
      news(events, map.shown, page.renew);
      followRun(events, map, page.renew);
    }
    watched.set(box, events);
  });
}
bind();
keys(map);
