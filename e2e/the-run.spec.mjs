import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { block, picture, signIn, sound, step } from "./help.mjs";
import { hashAt, rawDrive } from "./raw.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-run" });

const large = 640; // MiB

test("a long run is watched by two, stopped, finished and confirmed", async ({ baseURL, browser, page, shop }) => {
  const { data } = shop;
  const sum = rawDrive(join(data, "dock", "long drive.img"), 2048, large, 0x7f3b5c5c);
  await signIn(page, "tobias");
  await page.goto("/dock");
  const docked = page.locator(".docked li", { hasText: "long drive.img" });
  await docked.getByLabel("Model").fill("2 GB test drive");
  await docked.getByLabel("Serial number").fill("LNG1-640-5C5C");
  const bay = await docked.getByLabel("Bay").inputValue();
  await docked.getByLabel("Job").selectOption("J-1044");
  await docked.getByRole("button", { name: "Attach" }).click();
  await expect(page.locator("#work")).toHaveAttribute("data-busy", "false", { timeout: 60_000 });

  const job = `/jobs/J-1044?bay=${bay}`,
    confirm = `/jobs/J-1044/confirm?bay=${bay}`;
  await page.goto(confirm);
  await expect(page.getByText("Nothing has been carried out on this drive yet.")).toBeVisible();
  await page.goto(`${job}&p=1`);
  const slide = page.locator(".part:not([hidden]) .deed[data-deed=slide]");
  await slide.getByLabel("Move by").fill("1 MiB"); // the less, the longer it takes
  await slide.getByRole("button", { name: "Add step" }).click();
  await expect(step(page, "Slide")).toBeVisible();
  await page.getByLabel("Compare every file").check();
  // Somebody else will watch it, on another page of the same drive.
  const other = await (await browser.newContext({ baseURL })).newPage();
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

  // Told first on every page of the drive, and nothing is made from it as it is.
  await expect(page.locator(".middle .notice").first()).toContainText("A run on this drive is not finished");
  await other.goto(`/jobs/J-1044/search?bay=${bay}`);
  await other.getByRole("button", { name: /every sector/ }).click();
  await expect(other.locator(".flash")).toContainText("an earlier run on this drive is not finished", {
    ignoreCase: true,
  });
  // Its journal is damaged: the page says what can still be proven, and nothing is written.
  const run = readdirSync(join(data, "runs"))
    .sort()
    .find((d) => !readdirSync(join(data, "runs", d)).includes("ended.json"));
  const journal = join(data, "runs", run, "journal"),
    whole = readFileSync(journal),
    before = hashAt(join(data, "drives", "lng1-640-5c5c.img"), 1, large);
  const damaged = Buffer.from(whole);
  damaged[20] ^= 1;
  writeFileSync(journal, damaged);
  await page.getByRole("button", { name: "Finish it" }).click();
  await expect(page.locator("#work")).toContainText("the journal of the run is damaged", { timeout: 60_000 });
  await expect(page.locator("#work")).toContainText(/in \d+ pieces, \d+ lie in their new place only/);
  expect(hashAt(join(data, "drives", "lng1-640-5c5c.img"), 1, large)).toBe(before);
  await page.getByText("Leave the drive as it is").click();
  await expect(page.getByLabel("Why", { exact: true })).toBeVisible();
  await sound(page);
  writeFileSync(journal, whole);
  await page.reload();

  await page.getByRole("button", { name: "Finish it" }).click();
  await expect(page.locator("#work")).toContainText("The run was finished: the drive is as planned.", {
    timeout: 120_000,
  });
  await expect(page.locator(".stages")).toContainText("marked good");
  expect(hashAt(join(data, "drives", "lng1-640-5c5c.img"), 2, large)).toBe(sum);
  await page.locator(".stages").getByRole("link", { name: "Confirm" }).click();
  await expect(page.getByText("The drive was read back and is as planned.")).toBeVisible();
  await expect(page.locator("tbody tr").first()).toContainText("begins 1 MiB further on");
  await expect(block(page, "Unknown", "After")).toBeVisible();
  await sound(page);

  // Taken back as far as it was done: the second time it is stopped and undone.
  await page.goto(`${job}&p=1`);
  await slide.getByLabel("Move by").fill("1 MiB");
  await slide.getByRole("button", { name: "Add step" }).click();
  await page.getByRole("button", { name: "Carry out", exact: true }).click();
  await expect(page.locator("#work")).toContainText(/Slide .*MiB of 640.0 MiB/);
  await expect(page).toHaveTitle(/^\d+ % · J-1044/);
  await page.getByRole("button", { name: "Stop at a safe point" }).click();
  await page.getByRole("button", { name: "Take it back" }).click();
  await expect(page.locator("#work")).toContainText("The run was taken back", { timeout: 120_000 });
  expect(hashAt(join(data, "drives", "lng1-640-5c5c.img"), 2, large)).toBe(sum);
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
