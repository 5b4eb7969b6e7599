import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { block, picture, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-trail" });

test.describe.configure({ mode: "serial" });

const job = "/jobs/J-1045?bay=F";

test("a lost partition is searched for, looked into, compared and brought back", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto(job);
  // The page tells the missing partition from a missing letter, and leads to what was found.
  const said = page.locator(".notice", { hasText: "P:" });
  await expect(said).toContainText("its partition is missing from this drive: not only its letter");
  await expect(page.getByRole("link", { name: /Find: Plots, 120 GiB, found: likely/ })).toBeVisible();
  await sound(page);

  // Likely places first, then every sector, with progress.
  await said.getByRole("link", { name: "search the drive" }).click();
  await expect(page.getByRole("row", { name: /Plots/ })).toContainText("likely");
  await page.getByRole("button", { name: "Go through every sector" }).click();
  await expect(page.locator("#work")).toContainText("went through every sector: 1 lost partition", {
    timeout: 120_000,
  });
  await page.reload();
  await expect(page.getByText(/Every sector was gone through .* by Tobias Wren/)).toBeVisible();
  await sound(page);

  await page.getByRole("link", { name: "Plots" }).click();
  await expect(page.getByRole("heading", { name: "Plots, found" })).toBeVisible();
  await expect(page.getByText(/N: Notes \(partition 4\) lies over 4 GiB of its place/)).toBeVisible();
  await expect(
    page.getByText(/Plots does not come back whole: .* 6 files have wrong contents then: .*site 05.las/),
  ).toBeVisible();
  await expect(page.locator("tbody tr", { hasText: "site 07.las" })).toContainText("of it taken");
  await expect(page.locator("tbody tr", { hasText: "boundary 028.dwg" })).toContainText("nothing lies over it now");
  await sound(page);
  await picture(page, "find");

  // Looked into before anything is brought back: a single file is taken out.
  await page.getByRole("link", { name: "Look inside" }).click();
  await page.getByRole("link", { name: "Plots", exact: true }).last().click();
  await page.getByRole("link", { name: "Saltmarsh 01" }).click();
  const [taken] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: /boundary 028/ }).click(),
  ]);
  const sum = createHash("sha256")
    .update(readFileSync(await taken.path()))
    .digest("hex");
  await sound(page);

  await page.goBack();
  await page.getByRole("link", { name: "The find" }).click();
  await page.getByRole("button", { name: "Put its files on the shelf" }).click();
  await expect(page.locator("#work")).toContainText(
    "Its files are on the shelf and verified: 856 files and folders; 6 were left out, because something else lies in their place",
    { timeout: 120_000 },
  );
  const way = page.getByRole("row", { name: /Slide N: Notes toward the end, then put it back/ });
  await way.getByLabel("Why does it come back damaged?").fill("the other plots are wanted");
  await way.getByRole("button", { name: "Plan this way" }).click();
  await expect(step(page, "Slide N: Notes")).toBeVisible();
  await expect(step(page, "Bring back Plots")).toBeVisible();
  await expect(step(page, "Give Plots the letter P:")).toBeVisible();
  await page.getByRole("button", { name: "Rehearse on a copy" }).click();
  await expect(page.locator("#work")).toContainText("Rehearsed on a throw-away copy");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 120_000 });
  await expect(block(page, "P: Plots, 120 GiB")).toBeVisible();
  await expect(page.locator(".notice", { hasText: "P:" })).toHaveCount(0);
  await sound(page);

  // The file is in the volume as it was in the find, and nothing is lost any more.
  const [again] = await Promise.all([
    page.waitForEvent("download"),
    page.evaluate(() => {
      location.href = `/jobs/J-1045/file?bay=F&p=5&path=${encodeURIComponent("Plots/Saltmarsh 01/boundary 028.dwg")}`;
    }),
  ]);
  expect(
    createHash("sha256")
      .update(readFileSync(await again.path()))
      .digest("hex"),
  ).toBe(sum);
  await page.goto("/jobs/J-1045/search?bay=F");
  await expect(page.getByText("No lost partition was found")).toBeVisible();
  await page.goto("/trail?job=J-1045");
  await expect(
    page.getByRole("row", {
      name: /Bring back Plots: at its own place, as the search found it.*the copy of its start is written anew.*Plots does not come back whole: .*6 files have wrong contents then: Surveys.2026 autumn.site 05.las/,
    }),
  ).toBeVisible();
});

test("the trail is filtered, opened at a mark, walked back from, and checked elsewhere", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto("/trail?job=J-1045");
  await expect(page.getByText("The chain is whole")).toBeVisible();
  await expect(page.getByText(/Its head was signed and kept on the shelf up to entry \d+/)).toBeVisible();
  await sound(page);
  await page.getByLabel("Act", { exact: true }).selectOption("bring-back");
  await page.getByLabel("Who").selectOption("Tobias Wren");
  await page.getByRole("button", { name: "Show" }).click();
  await expect(page.locator("tbody tr")).toHaveCount(1);
  await page.locator("tbody tr").getByRole("link").first().click();
  await expect(page.getByRole("heading", { name: "brought back" })).toBeVisible();
  await expect(block(page, "Plots, 120 GiB", "After")).toBeVisible();
  await expect(page.getByRole("heading", { name: "To how it was before this" })).toBeVisible();
  await sound(page);
  await page
    .getByRole("region", { name: "To how it was before this" })
    .getByRole("button", { name: "Plan to walk back there" })
    .click();
  await expect(step(page, "Delete P: Plots")).toBeVisible();
  await page.getByRole("button", { name: /Take out step 1, Delete P: Plots/ }).click();
  await expect(step(page, "Delete P: Plots")).toHaveCount(0);

  // Nobody is like that; a date that is none is refused.
  await page.goto("/trail?text=nothing+of+the+kind");
  await expect(page.getByText("No entries match.")).toBeVisible();
  await sound(page);

  // What is taken along is checked by the bench command with the public key alone.
  const dir = mkdtempSync(join(tmpdir(), "trail-"));
  const get = async (path, name) => writeFileSync(join(dir, name), await (await page.request.get(path)).body());
  await get("/trail.jsonl", "trail.jsonl");
  await get("/trail/shop.pub", "shop.pub");
  await get("/trail/heads.jsonl", "heads.jsonl");
  const verify = (file) =>
    spawnSync(
      "bin/jadetrail",
      ["verify-trail", "--key", join(dir, "shop.pub"), "--heads", join(dir, "heads.jsonl"), join(dir, file)],
      { encoding: "utf8" },
    );
  expect(verify("trail.jsonl")).toMatchObject({ status: 0, stdout: expect.stringContaining("the chain is whole") });
  const lines = readFileSync(join(dir, "trail.jsonl"), "utf8").trimEnd().split("\n");
  writeFileSync(join(dir, "cut.jsonl"), `${lines.slice(0, 2).join("\n")}\n`);
  expect(verify("cut.jsonl")).toMatchObject({ status: 1, stdout: expect.stringMatching(/Entries 3 to \d+ are gone/) });
});

test("a job is handed over", async ({ page }) => {
  await signIn(page);
  await page.goto(job);
  await page.locator(".stages").getByRole("link", { name: "Hand over" }).click();
  await expect(page.getByRole("heading", { name: "Saltmarsh Surveyors, field notebook" })).toBeVisible();
  await expect(page.locator("tbody tr", { hasText: "P: Plots" })).toContainText("brought back");
  await expect(page.getByText(/Plots does not come back whole: .*6 files have wrong contents then/)).toBeVisible();
  await sound(page);
  await picture(page, "report");
  const [pdf] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Report as PDF" }).click(),
  ]);
  expect(pdf.suggestedFilename()).toBe("J-1045 report.pdf");
  expect(
    readFileSync(await pdf.path())
      .subarray(0, 5)
      .toString(),
  ).toBe("%PDF-");
  const [archive] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Archive of the job" }).click(),
  ]);
  // It is taken in again: here it is only one more entry.
  await page.goto("/trail");
  await page.getByText("Take in the trail of a bench command").click();
  await page.getByLabel("trail.jsonl or archive.zip").setInputFiles(await archive.path());
  await page.getByRole("button", { name: "Take it in" }).click();
  await expect(page.getByRole("status").or(page.locator(".flash"))).toContainText("Archive of job J-1045 taken in");
  await sound(page);
});
