// Kills the server, and the database, while a partition of several GiB is slid through the
// interface, and looks whether anything is lost: scripts/with-db.sh FOLDER node
// scripts/kill-check.mjs, with JADETRAIL_DATA naming the same folder. GIB says how much is slid.
import { execFileSync, spawn } from "node:child_process";
import { mkdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as sleep } from "node:timers/promises";
import { chromium } from "@playwright/test";
import { hashAt, rawDrive } from "../e2e/raw.mjs";

const data = process.env.JADETRAIL_DATA,
  size = 1024 * Number(process.env.GIB ?? 3),
  by = 64;
const env = { ...process.env, JADETRAIL_OWNER_DSN: undefined };
let server,
  address = "127.0.0.1:0",
  url;

async function start() {
  server = spawn("bin/jadetrail", ["serve", "--demo"], {
    env: { ...env, JADETRAIL_ADDR: address },
    stdio: ["ignore", "pipe", "inherit"],
  });
  url = await new Promise((found, lost) => {
    let said = "";
    server.stdout.on("data", (d) => {
      const at = /Jade Trail is at (\S+)/.exec((said += d));
      if (at) found(at[1]);
    });
    server.on("exit", () => lost(new Error("the server did not start: " + said)));
  });
  address = new URL(url).host;
}
async function kill() {
  const gone = new Promise((done) => server.once("exit", done));
  server.kill("SIGKILL");
  await gone;
}

const image = join(data, "drives", "kll1-003-9d9d.img");
execFileSync("bin/jadetrail", ["migrate"]);
execFileSync("bin/jadetrail", ["demo"]);
mkdirSync(join(data, "dock"), { recursive: true });
const sum = rawDrive(join(data, "dock", "kill.img"), size + 1024, size, 0x7f3b9d9d);
function same(at) {
  const ok = hashAt(image, at, size) === sum;
  console.log(
    `${ok ? "ok   " : "WRONG"} all ${size / 1024} GiB ${at === 1 ? "in their old place" : `${at - 1} MiB further on`}`,
  );
  if (!ok) process.exitCode = 1;
}

await start();
const browser = await chromium.launch({
  executablePath: "/usr/bin/chromium",
  args: [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
  ],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
page.setDefaultTimeout(60_000);
try {
  await page.goto(`${url}/sign-in`);
  await page.getByLabel("Name", { exact: true }).fill("ines");
  await page.getByLabel("Password", { exact: true }).fill("lantern-ines");
  await page.getByRole("button", { name: "Sign in" }).click();
  await page.goto(`${url}/dock`);
  const docked = page.locator(".docked li", { hasText: "kill.img" });
  await docked.getByLabel("Model").fill("test drive");
  await docked.getByLabel("Serial number").fill("KLL1-003-9D9D");
  const bay = await docked.getByLabel("Bay").inputValue();
  await docked.getByLabel("Job").selectOption("J-1044");
  await docked.getByRole("button", { name: "Attach" }).click();
  await page.locator("#work[data-busy=false]").waitFor();
  const job = `${url}/jobs/J-1044?bay=${bay}`;
  const says = (text) => page.locator("#work", { hasText: text }).waitFor({ timeout: 600_000 });
  // until waits until so much of the writing is done: what is read before it does not count.
  const until = async (percent) => {
    for (;;) {
      const writes = /Slide|taking back/.test(
        await page
          .locator("#work")
          .innerText()
          .catch(() => ""),
      );
      const at = !writes
        ? 0
        : await page
            .locator("#work progress")
            .evaluate((b) => (b.hidden ? 0 : b.value))
            .catch(() => 0);
      if (at >= percent) return at;
      if (!(await page.locator("#work[data-busy=true]").count()))
        throw new Error("it ended before: " + (await page.locator("#work").innerText()));
      await sleep(20);
    }
  };
  const plan = async (text) => {
    await page.goto(`${job}&p=1`);
    const slide = page.locator(".part:not([hidden]) .deed[data-deed=slide]");
    await slide.getByLabel("By, with - toward the start").fill(text);
    await slide.getByRole("button", { name: "Add step" }).click();
    await page.getByRole("button", { name: "Carry out", exact: true }).click();
    await page.locator("#work[data-busy=true]").waitFor();
  };
  // The page is not touched: it finds by itself that the run is not finished.
  const killed = async (percent, what) => {
    const at = await until(percent);
    await kill();
    await sleep(1000);
    await start();
    await page.getByRole("button", { name: "Finish it" }).waitFor();
    console.log(`ok    ${what}: the server was killed at ${at} %; the page shows the unfinished run by itself`);
  };

  await plan(`${by} MiB`);
  await killed(20, "slide");
  await page.getByRole("button", { name: "Finish it" }).click();
  await page.locator("#work[data-busy=true]").waitFor();
  await killed(50, "finishing it");
  await page.getByRole("button", { name: "Finish it" }).click();
  await page.locator("#work[data-busy=true]").waitFor();
  const at = await until(70);
  const db = Number(readFileSync(join(data, "mariadb", "pid"), "utf8"));
  const args = readFileSync(`/proc/${db}/cmdline`, "utf8").split("\0").slice(0, -1);
  process.kill(db, "SIGKILL");
  const after = await until(at + 5);
  console.log(`ok    the database was killed at ${at} %; the run goes on, and the page hears of it: ${after} %`);
  await sleep(4000);
  const again = spawn(args[0], args.slice(1), { stdio: "ignore", detached: true });
  for (let i = 0; i < 100; i++) {
    await sleep(500);
    await page.goto(job).catch(() => {});
    // What waits for the trail is entered within seconds; the page shows it when it is asked again.
    if (
      await page
        .getByRole("button", { name: "Finish it" })
        .or(page.locator(".stages", { hasText: "as planned" }))
        .count()
    )
      break;
  }
  await page
    .getByRole("button", { name: "Finish it" })
    .or(page.locator(".stages", { hasText: "as planned" }))
    .first()
    .waitFor();
  if (await page.getByRole("button", { name: "Finish it" }).count()) {
    await page.getByRole("button", { name: "Finish it" }).click();
    await says("The run was finished: the drive is as planned.");
  }
  console.log("ok    with the database back the run is finished and in the trail");
  same(1 + by);

  await plan(`${by} MiB`);
  await killed(50, "another slide");
  await page.getByRole("button", { name: "Take it back" }).click();
  await page.locator("#work[data-busy=true]").waitFor();
  await killed(40, "taking it back");
  await page.getByRole("button", { name: "Take it back" }).click();
  await says("The run was taken back");
  same(1 + by);
  await page.goto(`${url}/trail`);
  console.log(
    `${(await page.getByText(/chain/i).first().innerText()).includes("broken") ? "WRONG" : "ok   "} ${(await page.locator("main p").first().innerText()).slice(0, 140)}`,
  );
  again.unref();
  process.kill(Number(readFileSync(join(data, "mariadb", "pid"), "utf8")), "SIGTERM");
} finally {
  await browser.close();
  server.kill("SIGTERM");
}
