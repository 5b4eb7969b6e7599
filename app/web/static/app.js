// What the pages do beyond plain HTML. Every part works on its own; without this
// module the pages are complete, with tables in place of drawings.
import { trailMap } from "./map.js";
import { watchWork } from "./progress.js";
import { amounts } from "./amount.js";
import { keys } from "./keys.js";
import { soft, news } from "./soft.js";
import { goalForm } from "./goal.js";
import { uploads } from "./upload.js";
import { chain } from "./chain.js";

const data = document.getElementById("map-data");
let send;
const map = data
  ? trailMap(document.getElementById("map"), JSON.parse(data.textContent), (url, body) => send(url, body))
  : null;
const renewed = () => {
  amounts(document);
  goalForm(document);
};
if (map) send = soft(map, renewed);
for (const box of document.querySelectorAll(".work[data-url]")) {
  const events = watchWork(box);
  if (map && box.id === "work") news(events, map.shown);
}
renewed();
for (const form of document.querySelectorAll("form[data-upload]")) uploads(form);
const state = document.getElementById("chain");
if (state) chain(state);
keys(map);
