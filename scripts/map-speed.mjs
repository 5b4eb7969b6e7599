// How fast the map follows the hand: a drive with 60 partitions, 40 columns and 5 futures, an edge
// dragged to and fro for some seconds, the frames counted from the browser's own trace; and
// how large the page's own script and style are. Needs JADETRAIL_URL with the demo's data.
import { gzipSync } from "node:zlib";
import { readdirSync, readFileSync } from "node:fs";
import { base, openDemo } from "./demo-page.mjs";

const own = new URL("../app/web/static/", import.meta.url);
const weigh = (folder) =>
  readdirSync(folder)
    .filter((f) => /\.(js|css)$/.test(f))
    .reduce((sum, f) => sum + gzipSync(readFileSync(new URL(f, folder))).length, 0);
console.log(
  `Script and style: the page's own ${(weigh(own) / 1024).toFixed(1)} KiB compressed, ${((weigh(own) + weigh(new URL("vendor/", own))) / 1024).toFixed(1)} KiB with the base.`,
);

const page = await openDemo("ines");
const MIB = 2 ** 20,
  GIB = 2 ** 30,
  roles = ["data", "start-system", "recovery", "oem", "efi", "reserved"];
const blocks = (column) =>
  Array.from({ length: 60 }, (_, i) => [
    {
      key: `p${i}`,
      kind: "partition",
      number: i + 1,
      role: roles[i % 6],
      title: `Volume ${i + 1}`,
      size: "16 GiB",
      exact: "x",
      left: "4 GiB left",
      bytes: 16 * GIB,
      start: i * 40000,
      end: i * 40000 + 33000,
      fill: (i * 7) % 100,
      use: Array.from({ length: 96 }, (_, k) => (k * i * 37 + column) % 255),
    },
    ...(i % 6 === 5
      ? [
          {
            key: `g${i}`,
            kind: "gap",
            number: 0,
            role: "",
            title: "gap",
            size: "4 GiB",
            exact: "x",
            bytes: 4 * GIB,
            start: i * 40000 + 33001,
            end: i * 40000 + 39999,
            fill: -1,
          },
        ]
      : []),
  ]).flat();
const data = {
  job: "J-1042",
  plan: 1,
  act: "/nowhere",
  take: "/nowhere",
  futures: Array.from({ length: 5 }, (_, i) => ({
    id: `f${i}`,
    title: `Delete Volume ${i}; slide Volume ${i + 1}`,
    lost: "nothing is lost",
    price: "≈ 8 s, 1 GiB rewritten",
    asks: ["1 deletion", "1 reason"],
    blocks: blocks(40 + i),
  })),
  columns: Array.from({ length: 40 }, (_, i) => ({
    kind: i === 0 ? "now" : "plan",
    step: i,
    title: i === 0 ? "Now" : `Slide Volume ${i}`,
    sub: "by 1 GiB",
    blocks: blocks(i),
  })),
  hand: Object.fromEntries(
    Array.from({ length: 60 }, (_, i) => [
      `p${i}`,
      {
        number: i + 1,
        title: `Volume ${i + 1}`,
        used: 12 * GIB,
        grow_end: { most: 4 * GIB },
        cut_end: { most: 4 * GIB, why: "What is in it needs the rest." },
        grow_head: { most: 0 },
        cut_head: { most: 4 * GIB },
        slide_up: { most: 0 },
        slide_down: { most: 4 * GIB },
      },
    ]),
  ),
};
await page.route("**/jobs/J-1042?p=6", async (route) => {
  const answer = await route.fetch();
  await route.fulfill({
    response: answer,
    body: (await answer.text()).replace(
      /(<script type="application\/json" id="map-data">)[\s\S]*?(<\/script>)/,
      (_, a, b) => a + JSON.stringify(data) + b,
    ),
  });
});
await page.goto(`${base}/jobs/J-1042?p=6`);
await page.waitForTimeout(1500);
const last = page.getByRole("button", { name: /^Volume 12, .*in Slide Volume 39$/ });
await last.scrollIntoViewIfNeeded();
await page.waitForTimeout(300);
const box = await last.boundingBox();
const session = await page.context().newCDPSession(page);
const events = [];
session.on("Tracing.dataCollected", (e) => events.push(...e.value));
await session.send("Tracing.start", {
  transferMode: "ReportEvents",
  traceConfig: {
    includedCategories: [
      "devtools.timeline",
      "disabled-by-default-devtools.timeline",
      "disabled-by-default-devtools.timeline.frame",
      "blink.user_timing",
    ],
  },
});
await page.mouse.move(box.x + 40, box.y + box.height - 2);
await page.mouse.down();
await page.mouse.move(box.x + 40, box.y + box.height + 8);
// The movement is made in the page, a step for each of its frames.
await page.evaluate(
  (at) =>
    new Promise((done) => {
      const begun = performance.now();
      const step = (now) => {
        const t = (now - begun) / 1000;
        if (t > 4) return done();
        dispatchEvent(
          new PointerEvent("pointermove", { clientX: at.x, clientY: at.y + 30 * Math.sin(t * 5), bubbles: true }),
        );
        requestAnimationFrame(step);
      };
      performance.mark("drag begins");
      requestAnimationFrame(step);
    }),
  { x: box.x + 40, y: box.y + box.height },
);
await page.keyboard.press("Escape");
await page.mouse.up();
await Promise.all([new Promise((done) => session.on("Tracing.tracingComplete", done)), session.send("Tracing.end")]);
const from = events.find((e) => e.name === "drag begins")?.ts ?? 0;
const drawn = events
  .filter((e) => e.name === "DrawFrame" && e.ts > from && e.ts < from + 4e6)
  .map((e) => e.ts)
  .sort((a, b) => a - b);
const gaps = drawn
  .slice(1)
  .map((t, i) => (t - drawn[i]) / 1000)
  .sort((a, b) => a - b);
const busy = events
  .filter((e) => e.name === "UpdateLayer" || e.name === "Paint" || e.name === "FunctionCall" || e.name === "Layout")
  .filter((e) => e.ts > from && e.ts < from + 4e6)
  .reduce((sum, e) => sum + (e.dur ?? 0), 0);
const seconds = drawn.length > 1 ? (drawn.at(-1) - drawn[0]) / 1e6 : 0;
console.log(
  `Dragging on 60 partitions, 40 columns and 5 futures: ${drawn.length} frames in ${seconds.toFixed(1)} s, ${(drawn.length / seconds).toFixed(1)} a second; between two of them ${gaps[Math.floor(gaps.length / 2)]?.toFixed(1)} ms in the middle, ${gaps[Math.floor(gaps.length * 0.99)]?.toFixed(1)} ms at the 99th percentile; script, layout and paint took ${(busy / 1e3 / drawn.length).toFixed(2)} ms a frame.`,
);
await page.context().browser().close();
