// What every page of the demo says, without its looks, with all that is folded: one text, to be read from end to end as
// somebody would who has never seen the program. Run by "make words"; written to words.txt, which is not kept.
import { writeFileSync } from "node:fs";
import { everyPage } from "../e2e/pages.mjs";
import { base, openDemo } from "./demo-page.mjs";

const page = await openDemo("odile");
await page.request.post(`${base}/jobs/J-1042/steps`, {
  form: { do: "delete", partition: "6", release: "not wanted" },
  headers: { origin: base },
});
const out = [];
const more = ["/jobs", "/jobs/new", "/jobs/J-1042/about", "/jobs/J-1044", "/customers", "/people", "/shop", "/account"];
for (const path of [...everyPage, ...more, "/find?q=Tidewater"]) {
  await page.goto(base + path, { waitUntil: "load" });
  out.push(`\n======== ${path}`, await page.evaluate(said));
}
writeFileSync("words.txt", out.join("\n"));
console.log(`${out.join("\n").split("\n").length} lines in words.txt`);
await page.context().browser().close();

// said is what the page says, of all panels and folds, each line once.
function said() {
  for (const e of document.querySelectorAll("details")) e.open = true;
  for (const e of document.querySelectorAll("[data-panel][hidden]")) e.hidden = false;
  const lines = [];
  for (const e of document.querySelectorAll("main, aside.side, aside.stages, footer.price, .rail"))
    lines.push(...e.innerText.split("\n").map((line) => line.trim()));
  for (const e of document.querySelectorAll("[placeholder], [title]"))
    lines.push(...[e.placeholder, e.title].filter(Boolean).map((line) => `(${line})`));
  return [...new Set(lines.filter(Boolean))].join("\n");
}
