import { execFileSync } from "node:child_process";
import { mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { block, picture, reach, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "plan" });

const column = (page, n) => page.locator(".map svg text.stepno", { hasText: new RegExp(`^${n}$`) });
const steps = (page) => page.locator(".steps li");
const empty = async (page) => {
  while (await steps(page).count()) {
    const left = await steps(page).count();
    await page.getByRole("button", { name: new RegExp(`^Take out step ${left},`) }).click();
    await expect(steps(page)).toHaveCount(left - 1);
  }
};

test.beforeEach(async ({ page }) => {
  await signIn(page, "ines");
  await page.goto("/jobs/J-1042?p=6");
  await empty(page);
});

test("the newest column is worked by mouse: an edge, a block, back and again", async ({ page }) => {
  const oem = block(page, "OEM");
  const box = await oem.boundingBox();
  // Its end is dragged into the gap behind it; the numbers go along.
  await page.mouse.move(box.x + 60, box.y + box.height - 3);
  await page.mouse.down();
  await page.mouse.move(box.x + 60, box.y + box.height + 37, { steps: 12 });
  await expect(page.locator("#hand")).toContainText("OEM: its end");
  await expect(page.locator("#hand")).toContainText(/gains .* GiB = .* GB, then/);
  await expect(page.locator(".going")).toBeVisible();
  await page.mouse.up();
  await expect(step(page, "Grow OEM")).toBeVisible();
  await expect(column(page, 1)).toBeVisible();
  await expect(page.locator("#hand")).toBeHidden();
  // Then the whole block toward the end, until the hand can go no further.
  const grown = block(page, "OEM", "Grow OEM");
  const at = await grown.boundingBox();
  await page.mouse.move(at.x + 60, at.y + at.height / 2);
  await page.mouse.down();
  await page.mouse.move(at.x + 60, at.y + at.height / 2 + 900, { steps: 6 });
  await expect(page.locator("#hand")).toContainText("The gap ends there.");
  await page.mouse.up();
  await expect(step(page, "Slide OEM")).toBeVisible();
  await expect(page.getByRole("button", { name: "Rehearse on a copy" })).toHaveCount(1);
  // Escape lets go of what is held, and nothing is planned.
  const slid = await block(page, "OEM", "Slide OEM").boundingBox();
  await page.mouse.move(slid.x + 60, slid.y + slid.height / 2);
  await page.mouse.down();
  await page.mouse.move(slid.x + 60, slid.y - 30, { steps: 5 });
  await page.keyboard.press("Escape");
  await page.mouse.up();
  await expect(steps(page)).toHaveCount(2);
  // Back, back, and again.
  await page.keyboard.press("u");
  await expect(steps(page)).toHaveCount(1);
  await page.getByRole("button", { name: "Undo Grow OEM" }).click();
  await expect(steps(page)).toHaveCount(0);
  await page.getByRole("button", { name: "Redo Grow OEM" }).click();
  await expect(step(page, "Grow OEM")).toBeVisible();
  await page.keyboard.press("r");
  await expect(step(page, "Slide OEM")).toBeVisible();
  await sound(page);
  // Earlier, and of all the gap: nothing is left to grow into, and the map says so.
  await step(page, "Slide OEM").locator("summary").click();
  await page.getByRole("button", { name: "Earlier step 2" }).click();
  await expect(steps(page).nth(0)).toContainText("Slide OEM");
  await page.getByLabel("Amount of step 1").fill("all");
  await page.getByLabel("Amount of step 1").press("Enter");
  await expect(page.locator(".map")).toContainText("cannot be done");
  await expect(page.locator(".stages")).toContainText("a step cannot be done");
  await page.getByRole("button", { name: /^Undo/ }).click();
  await expect(page.locator(".map")).not.toContainText("cannot be done");
  await page.getByRole("button", { name: /^Undo/ }).click();
  await expect(steps(page).nth(0)).toContainText("Grow OEM");
  // Another amount.
  await step(page, "Grow OEM").locator("summary").click();
  await page.getByLabel("Amount of step 1").fill("5 GiB");
  await page.getByRole("button", { name: "Change", exact: true }).first().click();
  await expect(block(page, "OEM, 19.2 GiB", "Grow OEM")).toBeVisible();
  await empty(page);
});

test("the same by keyboard alone, and by typing", async ({ page }) => {
  const oem = block(page, "OEM");
  await reach(page, oem);
  await page.keyboard.press("e");
  await expect(page.locator("#hand")).toContainText("nothing changed");
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("PageDown");
  await expect(page.locator("#hand")).toContainText("gains 11 GiB");
  await page.keyboard.press("ArrowUp");
  await page.keyboard.press("Enter");
  await expect(step(page, "Grow OEM")).toBeVisible();
  await expect(block(page, "OEM, 24.2 GiB", "Grow OEM")).toBeFocused();
  // Slid by an exact amount, typed.
  await page.keyboard.press("s");
  await page.keyboard.type("3");
  await expect(page.getByLabel("exactly")).toBeFocused();
  await page.keyboard.type(" GiB");
  await page.keyboard.press("Enter");
  await expect(step(page, "Slide OEM")).toBeVisible();
  await expect(page.locator(".map")).toContainText("gap");
  // What it cannot do is said, and nothing is planned.
  await page.keyboard.press("h");
  await page.keyboard.press("Home");
  await expect(page.locator("#hand [data-why]")).not.toBeEmpty();
  await page.keyboard.press("Escape");
  await expect(steps(page)).toHaveCount(2);
  await page.keyboard.press("h");
  await page.keyboard.type("9999 GiB");
  await page.keyboard.press("Enter");
  await expect(page.locator(".flash.care")).toContainText("no step was added");
  await expect(steps(page)).toHaveCount(2);
  // From the side, with what it means while it is typed.
  const shrink = page.locator('.part:not([hidden]) [data-deed="shrink"]');
  await shrink.getByLabel("Gives up").fill("25 %");
  await expect(shrink.locator(".means")).toContainText("GB");
  await shrink.getByRole("button", { name: "Add step Shrink" }).click();
  await expect(step(page, "Shrink OEM")).toBeVisible();
  await expect(page.getByText("Will the PC start after the plan?")).toBeVisible();
  await sound(page);
  await empty(page);
});

test("what is half typed stays when work ends, and when another one's change is shown", async ({ browser, page }) => {
  await signIn(page, "ines");
  await page.goto("/jobs/J-1042?p=6");
  let loads = 0;
  page.on("load", () => loads++);
  const amount = page.locator('.part:not([hidden]) [data-deed="grow"]').first().getByLabel("Gains");
  await amount.fill("3 Gi");
  await page.locator(".part:not([hidden]) summary").first().click();
  await amount.focus();
  await amount.evaluate((field) => field.setSelectionRange(1, 2));
  await page.request.post("/jobs/J-1042/back-up?bay=A", { form: { partition: "4", kind: "files" } });
  await expect(page.locator("#work")).toContainText("Backed up and verified", { timeout: 60_000 });
  await expect(amount).toBeFocused();
  await expect(amount).toHaveValue("3 Gi");
  expect(await amount.evaluate((field) => [field.selectionStart, field.selectionEnd])).toEqual([1, 2]);
  await expect(page.locator(".part:not([hidden]) details").first()).toHaveAttribute("open", "");
  // Somebody else plans something; what is typed here stays here.
  const other = await (await browser.newContext()).newPage();
  await signIn(other, "tobias");
  await other.request.post("/jobs/J-1042/steps?bay=A", { form: { do: "label", partition: "6", label: "Maker's" } });
  await page.getByRole("button", { name: "Show it as it is now" }).click();
  await expect(step(page, "Label")).toBeVisible();
  await expect(amount).toHaveValue("3 Gi");
  await expect(page.locator("#plan-news")).toHaveCount(0);
  expect(loads).toBe(0);
  // Sent, it is used up.
  await amount.fill("3 GiB");
  await amount.press("Enter");
  await expect(step(page, "Grow OEM")).toBeVisible();
  await expect(amount).toHaveValue("");
  await empty(page);
  await other.context().close();
});

test("two people on one plan: nothing is silently overwritten; a plan is kept and used elsewhere", async ({
  browser,
}) => {
  const [one, two] = await Promise.all([0, 1].map(async () => (await browser.newContext()).newPage()));
  await signIn(one, "ines");
  await signIn(two, "tobias");
  await one.goto("/jobs/J-1042?p=6");
  await two.goto("/jobs/J-1042?p=6");
  const grow = (page) => page.locator('.part:not([hidden]) [data-deed="grow"]').first();
  await grow(one).getByLabel("Gains").fill("1 GiB");
  await grow(one).getByRole("button", { name: "Add step" }).click();
  await expect(step(one, "Grow OEM")).toBeVisible();
  await expect(one.locator("#plan-news")).toHaveCount(0);
  // The second sees that, and what it does on the old picture is not done.
  await expect(two.locator("#plan-news")).toContainText("Ines Marsh has changed this plan: Grow OEM.");
  await grow(two).getByLabel("Gains").fill("2 GiB");
  await grow(two).getByRole("button", { name: "Add step" }).click();
  await expect(two.locator(".flash.care")).toContainText("Ines Marsh has changed this plan meanwhile");
  await expect(steps(two)).toHaveCount(1);
  await expect(block(two, "OEM, 15.2 GiB", "Grow OEM")).toBeVisible();
  // It is kept under a name, handed out, and used for another drive, where it does not fit.
  await two.getByText("Kept plans").click();
  await two.getByLabel("Keep this plan as").fill("A little for OEM");
  await two.getByRole("button", { name: "Keep", exact: true }).click();
  await expect(two.locator(".flash.sound")).toContainText("kept as “A little for OEM”");
  await two.getByText("Kept plans").click();
  const [file] = await Promise.all([
    two.waitForEvent("download"),
    two.getByRole("link", { name: "This plan as a file" }).click(),
  ]);
  await two.getByRole("button", { name: "Take out step 1, Grow OEM" }).click();
  await expect(steps(two)).toHaveCount(0);
  await two.goto("/jobs/J-1044?bay=E");
  await two.getByText("Kept plans").click();
  await expect(two.locator(".kept")).toContainText("for another drive");
  await two.getByRole("button", { name: "Use here A little for OEM" }).click();
  await expect(two.locator(".flash.care")).toContainText("another drive");
  await expect(step(two, "Grow Recovery")).toBeVisible(); // partition 6 is another one here
  await two.getByRole("button", { name: /^Take out step 1/ }).click();
  await two.goto("/jobs/J-1042");
  await two.getByText("Kept plans").click();
  await two.getByLabel("A plan from a file").setInputFiles(await file.path());
  await two.getByRole("button", { name: "Read it in" }).click();
  await expect(step(two, "Grow OEM")).toBeVisible();
  await two.getByText("Kept plans").click();
  await two.getByRole("button", { name: "No longer keep A little for OEM" }).click();
  await expect(two.locator(".flash.sound")).toContainText("no longer kept");
  await empty(two);
  await two.getByText("Kept plans").click();
  await two
    .getByLabel("A plan from a file")
    .setInputFiles({ name: "x.json", mimeType: "application/json", buffer: Buffer.from("{}") });
  await two.getByRole("button", { name: "Read it in" }).click();
  await expect(two.locator(".flash.care")).toContainText("Nothing was planned");
});

test("a plan made on a drive that has changed since is checked again", async ({ page, shop }) => {
  // Somebody works on the same drive at a terminal.
  const folder = mkdtempSync(join(tmpdir(), "jadetrail-e2e-"));
  const label = (text) => {
    const plan = join(folder, "plan.json"),
      at = (name) => join(folder, name);
    writeFileSync(plan, JSON.stringify({ version: 1, steps: [{ do: "label", partition: "6", label: text }] }));
    execFileSync("bin/jadetrail", [
      "carry-out",
      "--plan",
      plan,
      "--runs",
      at("runs"),
      "--shelf",
      at("shelf"),
      "--trail",
      at("trail.jsonl"),
      join(shop.data, "drives", "tidewater-reception.img"),
    ]);
  };
  const grow = page.locator('.part:not([hidden]) [data-deed="grow"]').first();
  await grow.getByLabel("Gains").fill("1 GiB");
  await grow.getByRole("button", { name: "Add step" }).click();
  await expect(step(page, "Grow OEM")).toBeVisible();
  label("Changed");
  await page.reload();
  await expect(page.getByText("The drive has changed since the plan was made.")).toBeVisible();
  await expect(page.locator(".notice.care", { hasText: "has changed since" })).toContainText(
    'Partition 6 holds ntfs "Changed"',
  );
  await expect(page.getByRole("button", { name: "Carry out" })).toHaveCount(0);
  await sound(page);
  await page.getByRole("button", { name: "Lay the plan anew" }).click();
  await expect(page.locator(".flash.sound")).toContainText("laid anew");
  await expect(page.getByText("The drive has changed since the plan was made.")).toHaveCount(0);
  await empty(page);
  label("Maker");
});
