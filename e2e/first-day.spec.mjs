import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { block, picture, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "first-day", empty: true });

test.describe.configure({ mode: "serial" });

const passwords = { odile: "four herons mend a kiln", ines: "slow barges carry salt" };
const password = async (page, text) => {
  await page.getByLabel(/New password/).fill(text);
  await page.getByLabel("The new password again").fill(text);
};
const signIn = async (page, login) => {
  await page.goto("/sign-in");
  await page.getByLabel("Name", { exact: true }).fill(login);
  await page.getByLabel("Password", { exact: true }).fill(passwords[login]);
  await page.getByRole("button", { name: "Sign in" }).click();
};
const as = async (browser, baseURL, login) => {
  const page = await (await browser.newContext({ baseURL })).newPage();
  if (login) await signIn(page, login);
  return page;
};

test("an empty installation becomes a shop, and its people choose their passwords", async ({
  page,
  shop,
  browser,
  baseURL,
}) => {
  // Wherever one goes, it is the first day; nothing of a demo signs in.
  await page.goto("/trail");
  await expect(page.getByRole("heading", { name: "The first day" })).toBeVisible();
  await sound(page);
  await page.getByLabel("Code from the terminal").fill("AAAA-BBBB-CCCC");
  await page.getByLabel(/Its name/).fill("Lantern Quay Repairs");
  await page.getByLabel(/Its address/).fill("3 Quay Street\nPort Ellery");
  await page.getByLabel(/Your name/).fill("Odile Farrow");
  await page.getByLabel(/Name for signing in/).fill("odile");
  await password(page, passwords.odile);
  await page.getByRole("button", { name: "Open the shop" }).click();
  await expect(page.getByRole("alert")).toContainText("not the code that the terminal shows");
  await page.getByLabel("Code from the terminal").fill(shop.code);
  await password(page, passwords.odile);
  await page.evaluate(() => scrollTo(0, 0));
  await picture(page, "first-day");
  await page.getByRole("button", { name: "Open the shop" }).click();
  await expect(page.getByText("The shop is open.")).toBeVisible();

  const add = async (name, login, role) => {
    const fresh = page.locator("section", { has: page.getByRole("heading", { name: "A new account" }) });
    await fresh.getByLabel("Name", { exact: true }).fill(name);
    await fresh.getByLabel("Signs in as").fill(login);
    await fresh.getByLabel("Role").selectOption(role);
    await fresh.getByRole("button", { name: "Make the account" }).click();
    await expect(page.getByRole("heading", { name: `One-time code for ${name}` })).toBeVisible();
    return (await page.locator(".one-time").textContent()).trim();
  };
  await add("Rhea Moss", "rhea", "reader");
  const code = await add("Ines Marsh", "ines", "technician");
  await sound(page);
  await picture(page, "people");

  const ines = await as(browser, baseURL);
  await ines.goto("/sign-in");
  await ines.getByRole("link", { name: "I have a one-time code" }).click();
  await sound(ines);
  await ines.getByLabel("Name", { exact: true }).fill("ines");
  await ines.getByLabel("One-time code").fill(code.toLowerCase());
  await password(ines, "ines marsh ines");
  await ines.getByRole("button", { name: "Keep it, and sign in" }).click();
  await expect(ines.getByRole("alert")).toContainText("tried first");
  await password(ines, passwords.ines);
  await ines.getByRole("button", { name: "Keep it, and sign in" }).click();
  await expect(ines.getByText("No job is open.")).toBeVisible();
  // What is for leads is not shown, and not answered.
  await expect(ines.getByRole("link", { name: "People" })).toHaveCount(0);
  await ines.goto("/people");
  await expect(ines.getByText("That is for leads")).toBeVisible();
  // The account: another session ended, a second factor offered.
  const elsewhere = await as(browser, baseURL, "ines");
  await expect(elsewhere.getByText("No job is open.")).toBeVisible();
  await ines.goto("/account");
  await sound(ines);
  await ines.getByRole("button", { name: /Sign out there/ }).click();
  await expect(ines.getByText("You are signed out there.")).toBeVisible();
  await elsewhere.goto("/");
  await expect(elsewhere.getByRole("heading", { name: "Sign in" })).toBeVisible();
  await ines.goto("/account/second");
  await sound(ines);
});

test("a customer's job, from the counter to closing, on a drive that nobody here made", async ({
  shop,
  browser,
  baseURL,
}) => {
  const image = join(shop.data, "dock", "notebook.img");
  execFileSync("e2e/foreign-drive.sh", [image]);
  const before = execFileSync("sha256sum", [image]).toString();
  const page = await as(browser, baseURL, "ines");
  const lead = await as(browser, baseURL, "odile");

  // The counter, by keyboard: what is typed is looked for among those who have been here.
  await page.getByRole("link", { name: "Open a job" }).click();
  await page.getByLabel(/Has been here before/).fill("salt");
  await expect(page.getByText("Nobody like that has been here")).toBeVisible();
  await page.keyboard.press("Enter");
  await page.keyboard.type("Saltmarsh Surveyors");
  await page.getByLabel("Telephone", { exact: true }).fill("01632 960 147");
  await page.getByLabel("PC or drive").fill("field notebook");
  await page.getByLabel("What is wrong").fill("PLOTS is too small, the rest is not needed.");
  await page.getByLabel("The wish").fill("PLOTS gains all there is");
  await page.getByLabel("As a goal").selectOption("gain");
  await page.getByLabel("What must not be lost").fill("the plots");
  await sound(page);
  await picture(page, "intake");
  await page.getByRole("button", { name: "Open the job" }).click();
  await expect(page.getByText("J-1001 is open.", { exact: true })).toBeVisible();
  await page.getByLabel("A note", { exact: true }).fill("The lid is scratched.");
  await page.getByRole("button", { name: "Keep the note" }).click();
  await page.getByLabel("A picture, JPEG, PNG or WebP").setInputFiles("docs/screenshots/bench.png");
  await page.getByLabel("What it shows").fill("the label");
  await page.getByRole("button", { name: "Keep the picture" }).click();
  await expect(page.getByRole("img", { name: "the label" })).toBeVisible();
  await page.getByRole("link", { name: "Intake sheet" }).click();
  await expect(page.getByRole("img", { name: "Code of J-1001" }).first()).toBeVisible();
  await sound(page);
  await page.goto("/jobs/J-1001/about");
  await page.getByRole("button", { name: "The sheet is signed" }).click();
  await sound(page);

  // Its drive.
  await page.getByRole("link", { name: "Attach its drive" }).click();
  await page.getByLabel("Model").first().fill("2 GB card");
  await page.getByLabel("Serial number").first().fill("SLT7-001-9K2D");
  await page.getByRole("button", { name: "Attach", exact: true }).click();
  await expect(page.getByText(/Bay A has the drive SLT7-001-9K2D/)).toBeVisible();
  await page.goto("/jobs/J-1001?p=3");
  await expect(block(page, "PLOTS")).toBeVisible();

  // What stands between goes: the letters are backed up, the EFI partition needs the lead.
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await expect(step(page, "Delete old")).toBeVisible();
  await page.goto("/jobs/J-1001?p=2");
  await page.locator("#release2").fill("A card starts no PC");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await page.goto("/jobs/J-1001?p=1");
  const part = page.locator(".part:not([hidden])");
  await part.getByRole("textbox", { name: "Gains" }).fill("all");
  await part
    .locator("form.amount", { has: page.locator("[name=by]") })
    .first()
    .getByRole("button")
    .click();
  await expect(step(page, /Grow PLOTS/)).toBeVisible();
  await page.getByRole("link", { name: "Safeguard" }).click();
  await page.getByRole("button", { name: /Make the missing/ }).click();
  await expect(page.getByText(/Backed up and verified|All is settled/).first()).toBeVisible();
  await expect(page.getByText("Ines Marsh asks the lead").first()).toBeVisible();

  // The request stands on the lead's bench beside the drive; one act answers, and the technician sees it at once.
  await lead.goto("/");
  await expect(lead.getByRole("heading", { name: "You are asked" })).toBeVisible();
  await expect(lead.locator(".asks .drawing svg")).not.toHaveCount(0);
  await sound(lead);
  await picture(lead, "requests");
  await lead.locator(".asks").getByLabel(/^Why/).fill("It is a card");
  await lead.locator(".asks").getByRole("button", { name: /^Yes/ }).click();
  await expect(lead.locator(".asks")).toHaveCount(0);
  await expect(page.locator(".flash.floating")).toContainText("Odile Farrow says yes");
  await expect(page.getByText("All is settled.")).toBeVisible();

  // Carried out, confirmed.
  await page.goto("/jobs/J-1001");
  await page.getByLabel(/Serial check/).fill("9K2D");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned");
  await page.goto("/jobs/J-1001/confirm");
  await sound(page);

  // What is not ours looks at the volume.
  const raw = join(shop.data, "drives", "slt7-001-9k2d.img");
  const table = JSON.parse(execFileSync("/usr/sbin/sfdisk", ["--json", raw]));
  expect(table.partitiontable.partitions.length).toBe(1);
  const { start, size } = table.partitiontable.partitions[0];
  expect(size * 512).toBeGreaterThan(1.9 * 2 ** 30);
  const volume = join(shop.data, "volume.img");
  execFileSync("dd", [`if=${raw}`, `of=${volume}`, "bs=512", `skip=${start}`, `count=${size}`, "conv=sparse"], {
    stdio: "ignore",
  });
  execFileSync("/usr/sbin/fsck.fat", ["-n", volume]);

  // Handed over and closed; then found again, and opened again.
  await page.goto("/jobs/J-1001/about");
  await page.locator("#main").getByRole("link", { name: "Hand over" }).click();
  await page.getByRole("button", { name: "Hand it over" }).click();
  await expect(page.getByText("Handed over. Print this report")).toBeVisible();
  await expect(page.getByText("3 Quay Street")).toBeVisible();
  await sound(page);
  const [file] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Report as PDF" }).click(),
  ]);
  expect(
    readFileSync(await file.path())
      .subarray(0, 5)
      .toString(),
  ).toBe("%PDF-");
  await page.locator("#main").getByRole("link", { name: "Close the job" }).first().click();
  await sound(page);
  await page.getByRole("button", { name: "Close the job" }).click();
  await expect(page.getByText("J-1001 is closed.")).toBeVisible();
  await sound(page);
  await picture(page, "closed-job");
  await page.goto("/");
  await expect(page.getByText("No job is open.")).toBeVisible();
  await page.goto("/jobs?closed=yes&q=960147");
  await expect(page.getByRole("link", { name: "J-1001" })).toBeVisible();
  await sound(page);
  expect(before).toBeTruthy();
  await page.goto("/trail?job=J-1001");
  await expect(page.locator("tbody")).toContainText("job closed");
  await expect(page.locator("tbody")).not.toContainText("Saltmarsh");
});

test("tablet and double text: nothing is cut off at the counter", async ({ browser, baseURL }) => {
  const page = await as(browser, baseURL, "odile");
  for (const size of [
    { width: 820, height: 1180 },
    { width: 640, height: 400 }, // 1280 by 800 with text twice as large
  ]) {
    await page.setViewportSize(size);
    for (const path of [
      "/people",
      "/shop",
      "/jobs",
      "/jobs/new",
      "/jobs/J-1001/about",
      "/jobs/J-1001/intake-sheet",
      "/account",
      "/",
    ]) {
      await page.goto(path);
      const over = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
      expect(over, `${path} at ${size.width}`).toBeLessThanOrEqual(0);
    }
  }
});
