// What the pages do beyond plain HTML. Every part works on its own; without this
// module the pages are complete, with tables in place of drawings.
import { trailMap } from "./map.js";
import { watchWork } from "./progress.js";
import { amounts } from "./amount.js";
import { keys } from "./keys.js";
import { uploads } from "./upload.js";

const data = document.getElementById("map-data");
const map = data ? trailMap(document.getElementById("map"), JSON.parse(data.textContent)) : null;
const work = document.getElementById("work");
if (work) watchWork(work);
amounts(document);
for (const form of document.querySelectorAll("form[data-upload]")) uploads(form);
keys(map);
