// How long the server takes for each kind of page of the demo, beside an empty page: the median of 20, in ms, without a
// browser. With a plan on J-1042. Run by "make page-times"; written to docs/page-times.txt.
import { writeFileSync } from "node:fs";

const base = process.env.JADETRAIL_URL;
let cookie = "";

async function ask(path, form) {
  const answer = await fetch(base + path, {
    method: form ? "POST" : "GET",
    redirect: "manual",
    headers: { cookie, "accept-encoding": "identity", ...(form ? { origin: base } : {}) },
    body: form ? new URLSearchParams(form) : undefined,
  });
  for (const set of answer.headers.getSetCookie()) cookie = set.split(";")[0];
  const text = await answer.text();
  if (answer.status >= 400) throw new Error(`${path}: ${answer.status} ${text.slice(0, 300)}`);
  return text;
}

await ask("/sign-in");
await ask("/sign-in", { login: "odile", password: "lantern-odile" });
await ask("/jobs/J-1042/steps", { do: "delete", partition: "6", release: "not wanted" });
await new Promise((over) => setTimeout(over, 3000)); // what is written to just now is not kept

const pages = [
  ["an empty page", "/healthz"],
  ["bench", "/"],
  ["drive, with a plan", "/jobs/J-1042"],
  ["drive, a partition chosen", "/jobs/J-1042?p=6"],
  ["drive, with futures", "/jobs/J-1044"],
  ["gate", "/jobs/J-1042/safeguard"],
  ["confirm", "/jobs/J-1042/confirm"],
  ["hand over", "/jobs/J-1042/hand-over"],
  ["about the job", "/jobs/J-1042/about"],
  ["inside", "/jobs/J-1042/inside?p=5"],
  ["what fills it", "/jobs/J-1042/holds?p=5"],
  ["compare", "/jobs/J-1042/compare?p=5"],
  ["PC", "/jobs/J-1047/pc"],
  ["search", "/jobs/J-1045/search"],
  ["dock", "/dock"],
  ["shelf", "/shelf"],
  ["trail", "/trail"],
  ["jobs", "/jobs"],
  ["people", "/people"],
  ["customers", "/customers"],
  ["find", "/find?q=Tidewater"],
];
const lines = [
  `The server's time for pages of the demo, in ms: the median of 20, and the longest (${new Date().toISOString().slice(0, 10)})`,
];
for (const [name, path] of pages) {
  await ask(path); // once for what is read the first time
  const took = [];
  for (let i = 0; i < 20; i++) {
    const began = performance.now();
    await ask(path);
    took.push(performance.now() - began);
  }
  took.sort((a, b) => a - b);
  lines.push(
    `${name.padEnd(28)} ${((took[9] + took[10]) / 2).toFixed(1).padStart(7)} ${took[19].toFixed(1).padStart(7)}`,
  );
}
writeFileSync("docs/page-times.txt", lines.join("\n") + "\n");
console.log(lines.join("\n"));
