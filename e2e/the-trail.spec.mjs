import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { expect, test } from "@playwright/test";
import { block, picture, signIn, sound, step } from "./help.mjs";

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
  await expect(page.locator("#work")).toContainText("Searched to its end: 1 lost partition", { timeout: 120_000 });
  await page.reload();
  await expect(page.getByText(/Every sector was gone through .* by Tobias Wren/)).toBeVisible();
  await sound(page);

  await page.getByRole("link", { name: "Plots" }).click();
  await expect(page.getByRole("heading", { name: "Plots, found" })).toBeVisible();
  await expect(page.getByText(/N: Notes \(partition 4\) lies over 4 GiB of its place/)).toBeVisible();
  await expect(page.getByText("6 of its files have something else in their place: they come back with wrong contents.")).toBeVisible();
  await expect(page.locator("tbody tr", { hasText: "site 07.las" })).toContainText("of it taken");
  await expect(page.locator("tbody tr", { hasText: "boundary 028.dwg" })).toContainText("nothing lies over it now");
  await sound(page);
  await picture(page, "find");

  // Looked into before anything is brought back: a single file is taken out.
  await page.getByRole("link", { name: "Look inside" }).click();
  await page.getByRole("link", { name: "Plots", exact: true }).last().click();
  await page.getByRole("link", { name: "Saltmarsh 01" }).click();
  const [taken] = await Promise.all([page.waitForEvent("download"), page.getByRole("link", { name: /boundary 028/ }).click()]);
  const sum = createHash("sha256").update(readFileSync(await taken.path())).digest("hex");
  await sound(page);

  await page.goBack();
  await page.getByRole("link", { name: "The find" }).click();
  await page.getByRole("button", { name: "Plan this way: Slide N: Notes toward the end, then put it back" }).click();
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
  const [again] = await Promise.all([page.waitForEvent("download"), page.evaluate(() => { location.href = `/jobs/J-1045/file?bay=F&p=5&path=${encodeURIComponent("Plots/Saltmarsh 01/boundary 028.dwg")}`; })]);
  expect(createHash("sha256").update(readFileSync(await again.path())).digest("hex")).toBe(sum);
  await page.goto("/jobs/J-1045/search?bay=F");
  await expect(page.getByText("No lost partition was found")).toBeVisible();
  await page.goto("/trail?job=J-1045");
  await expect(page.getByRole("row", { name: /Bring back Plots: at its own place, as the search found it; the copy of its start is written anew.*6 files of Plots had something else in place, with wrong contents then: Surveys.2026 autumn.site 05.las/ })).toBeVisible();
});
