import { createHash, randomFillSync } from "node:crypto";
import { closeSync, ftruncateSync, openSync, readSync, writeSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { block, picture, signIn, sound, step } from "./help.mjs";

const MiB = 1 << 20, large = 640;
const data = process.env.JADETRAIL_DATA;

// drive makes an image with an old table and one partition that nothing is known of, full of
// bytes that do not repeat; it returns what these hash to.
function drive(path) {
  const f = openSync(path, "w+"), first = Buffer.alloc(512), piece = Buffer.alloc(MiB), hash = createHash("sha256");
  ftruncateSync(f, 2048 * MiB);
  first.writeUInt32LE(0x7f3b5c5c, 440);
  first[446 + 4] = 0x07;
  first.writeUInt32LE(2048, 446 + 8);
  first.writeUInt32LE(large * 2048, 446 + 12);
  first.writeUInt16LE(0xaa55, 510);
  writeSync(f, first, 0, 512, 0);
  for (let i = 0; i < large; i++) {
    randomFillSync(piece);
    hash.update(piece);
    writeSync(f, piece, 0, MiB, (1 + i) * MiB);
  }
  closeSync(f);
  return hash.digest("hex");
}

function hashAt(path, at) {
  const f = openSync(path, "r"), piece = Buffer.alloc(MiB), hash = createHash("sha256");
  for (let i = 0; i < large; i++) {
    readSync(f, piece, 0, MiB, at + i * MiB);
    hash.update(piece);
  }
  closeSync(f);
  return hash.digest("hex");
}

test("a long run is watched by two, stopped, finished and confirmed", async ({ browser, page }) => {
  const sum = drive(join(data, "dock", "long drive.img"));
  await signIn(page, "tobias");
  await page.goto("/dock");
  const docked = page.locator(".docked li", { hasText: "long drive.img" });
  await docked.getByLabel("Model").fill("2 GB test drive");
  await docked.getByLabel("Serial number").fill("LNG1-640-5C5C");
  const bay = await docked.getByLabel("Bay").inputValue();
  await docked.getByLabel("Job").selectOption("J-1044");
  await docked.getByRole("button", { name: "Attach" }).click();
  await expect(page.locator("#work")).toHaveAttribute("data-busy", "false", { timeout: 60_000 });

  const job = `/jobs/J-1044?bay=${bay}`, confirm = `/jobs/J-1044/confirm?bay=${bay}`;
  await page.goto(confirm);
  await expect(page.getByText("Nothing has been carried out on this drive yet.")).toBeVisible();
  await page.goto(`${job}&p=1`);
  const slide = page.locator(".part:not([hidden]) .deed[data-deed=slide]");
  await slide.getByLabel("By, with - toward the start").fill("1 MiB"); // the less, the longer it takes
  await slide.getByRole("button", { name: "Add step" }).click();
  await expect(step(page, "Slide")).toBeVisible();
  await page.getByLabel("Compare every file").check();
  // Somebody else will watch it, on another page of the same drive.
  const other = await (await browser.newContext({ baseURL: process.env.JADETRAIL_URL })).newPage();
  await signIn(other, "ines");
  await other.goto(`/jobs/J-1044/safeguard?bay=${bay}`);
  await page.getByRole("button", { name: "Carry out", exact: true }).click();

  await expect(page.locator("#work")).toContainText(/Slide .*MiB of 640.0 MiB, .*\/s/);
  await expect(page.locator("#work [data-left]")).toContainText(/≈ .* left/);
  await expect(page.locator(".stages")).toContainText("under way");
  await expect(other.locator("#work")).toContainText(/MiB of 640.0 MiB/);
  await picture(page, "a-run");
  await other.getByRole("button", { name: "Stop at a safe point" }).click();
  await expect(page.locator("#work")).toContainText("topped at a safe point; the run can be resumed or undone");
  await expect(page.locator(".stages")).toContainText("an unfinished run");
  await sound(page);
  // Nothing else can be done with the drive meanwhile.
  await expect(page.getByRole("button", { name: "Carry out", exact: true })).toHaveCount(0);
  await other.goto(confirm);
  await expect(other.getByText("A run is not finished.")).toBeVisible();

  await page.getByRole("button", { name: "Finish it" }).click();
  await expect(page.locator("#work")).toContainText("The run was finished: the drive is as planned.", { timeout: 120_000 });
  await expect(page.locator(".stages")).toContainText("marked good");
  expect(hashAt(join(data, "drives", "lng1-640-5c5c.img"), 2 * MiB)).toBe(sum);
  await page.locator(".stages").getByRole("link", { name: "Confirm" }).click();
  await expect(page.getByText("The drive was read back and is as planned.")).toBeVisible();
  await expect(page.locator("tbody tr").first()).toContainText("begins 1 MiB further on");
  await expect(block(page, "Unknown", "After")).toBeVisible();
  await sound(page);

  // Taken back as far as it was done: the second time it is stopped and undone.
  await page.goto(`${job}&p=1`);
  await slide.getByLabel("By, with - toward the start").fill("1 MiB");
  await slide.getByRole("button", { name: "Add step" }).click();
  await page.getByRole("button", { name: "Carry out", exact: true }).click();
  await expect(page.locator("#work")).toContainText(/MiB of 640.0 MiB/);
  await page.getByRole("button", { name: "Stop at a safe point" }).click();
  await page.getByRole("button", { name: "Take it back" }).click();
  await expect(page.locator("#work")).toContainText("The run was taken back", { timeout: 120_000 });
  expect(hashAt(join(data, "drives", "lng1-640-5c5c.img"), 2 * MiB)).toBe(sum);
  await page.goto(confirm);
  await expect(page.getByText("The latest run was taken back")).toBeVisible();
  await sound(page);
  // The bay is left as other tests expect it.
  await page.goto(job);
  await page.getByRole("button", { name: "Take out step 1" }).click();
  await page.goto("/dock");
  await page.locator("tbody tr", { hasText: "2 GB test drive" }).getByRole("button", { name: "Detach" }).click();
  await expect(page.getByText(`Bay ${bay} is empty.`)).toBeVisible();
});
