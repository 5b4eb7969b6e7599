import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import { block, picture, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-gate" });

test.describe.configure({ mode: "serial" });

const row = (page, name) => page.locator(".gate tbody tr", { has: page.getByText(name, { exact: true }) });

test("the gate: what goes needs a backup, or a waiver by who may give it", async ({ page }) => {
  await signIn(page, "ines");
  await page.goto("/jobs/J-1044/safeguard?bay=E");
  await expect(page.getByText("No plan yet, so nothing is touched.")).toBeVisible();
  for (const [number, title] of [
    [5, "OEM"],
    [4, "G: Catalogue"],
    [6, "Recovery"],
  ]) {
    await page.goto(`/jobs/J-1044?bay=E&p=${number}`);
    const release = page.locator(`#release${number}`);
    if (await release.count()) await release.fill("The choir does not need it");
    if (number === 6) {
      // Erased: what that means is said before it is planned.
      await page.locator(".part:not([hidden]) summary", { hasText: "Erase it besides" }).click();
      await expect(
        page.getByText("From the overwriting on the run cannot be taken back.").locator("visible=true"),
      ).toBeVisible();
      await page.locator(".part:not([hidden]) [name=erase]").check();
    }
    await page.getByRole("button", { name: "Add step: delete" }).click();
    await expect(step(page, `${number === 6 ? "Delete and erase" : "Delete"} ${title}`)).toBeVisible();
  }
  await page.getByRole("link", { name: "Safeguard" }).click();
  await expect(page.getByText("3 partitions go with nothing that stands for them.")).toBeVisible();
  await expect(row(page, "Recovery")).toContainText("deleted and erased in step 3");
  await expect(row(page, "Recovery")).toContainText("the run cannot be taken back");
  await sound(page);

  // Of what may hold personal files the backup is waived by the lead alone: a technician's reason asks for it.
  await row(page, "G: Catalogue").getByText("Delete without a backup", { exact: true }).click();
  await expect(row(page, "G: Catalogue")).toContainText("with this reason the lead is asked");
  await row(page, "G: Catalogue")
    .getByLabel(/without a backup/)
    .fill("I think so");
  await row(page, "G: Catalogue").getByRole("button", { name: "Ask the lead" }).click();
  await expect(row(page, "G: Catalogue")).toContainText("only the lead may let it go without a backup");
  await expect(row(page, "G: Catalogue")).toContainText(/Ines Marsh asks the lead[^]*I think so/);
  await sound(page);
  await expect(page.getByLabel("Your reason")).toHaveCount(0); // that is for the lead
  await picture(page, "safeguard");
  // The recovery partition's backup a technician may waive.
  await page.goto("/jobs/J-1044/safeguard?bay=E");
  await row(page, "Recovery").getByText("Delete it anyway").click();
  await row(page, "Recovery")
    .getByLabel(/without a backup/)
    .fill("The maker sends a stick");
  await row(page, "Recovery").getByRole("button", { name: "Give the reason" }).click();
  await expect(page.getByText("2 partitions go with nothing that stands for them.")).toBeVisible();
  await expect(row(page, "Recovery")).toContainText("The maker sends a stick");

  // Nothing can be carried out until all is settled; then one act makes the missing ones.
  await page.goto("/jobs/J-1044?bay=E");
  await expect(page.getByRole("button", { name: "Carry out" })).toHaveCount(0);
  await page.goto("/jobs/J-1044/safeguard?bay=E");
  await page.getByRole("radio", { name: /files each/ }).check();
  await page.getByRole("button", { name: "Make the missing 2 backups" }).click();
  await expect(page.getByText("All is settled.")).toBeVisible();
  await expect(row(page, "G: Catalogue")).toContainText(
    /Backup, files.*verified just now.*The partition is as it was then/s,
  );
  await page.goto("/jobs/J-1044?bay=E");
  await expect(page.getByRole("button", { name: "Carry out" })).toBeVisible();
});

test("what the lead approves of is void when it changes", async ({ baseURL, browser, page }) => {
  const as = async (login) => {
    const p = await (await browser.newContext({ baseURL })).newPage();
    await signIn(p, login);
    return p;
  };
  await signIn(page, "tobias");
  await page.goto("/jobs/J-1043?p=3");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  const gate = "/jobs/J-1043/safeguard";
  const ask = async (why) => {
    await page.goto(gate);
    const old = page.locator(".gate tbody tr").first();
    await old.getByText("Delete without a backup", { exact: true }).click();
    await old.getByLabel(/without a backup/).fill(why);
    await old.getByRole("button", { name: "Ask the lead" }).last().click();
    await expect(old).toContainText(`Tobias Wren asks the lead`);
    return old;
  };
  let old = await ask("The recipes were printed");
  await expect(page.getByText("All is settled.")).toHaveCount(0);

  // The lead sees it on the bench, says no first, then yes.
  const lead = await as("odile");
  await lead.goto("/");
  await expect(lead.getByRole("heading", { name: "You are asked" })).toBeVisible();
  await sound(lead);
  const row = lead.locator(".gate tbody tr").first();
  await lead.locator("section.notice").getByRole("link", { name: "J-1043" }).click();
  await row.getByLabel("Your reason").fill("Ask the bakery first");
  await sound(lead);
  await row.getByRole("button", { name: "Do not approve" }).click();
  await expect(row).toContainText("Odile Farrow does not approve: “Ask the bakery first”".replace(/[“”]/g, ""));
  await page.goto(gate);
  await expect(old).toContainText("does not approve");

  old = await ask("The bakery says yes");
  await lead.goto(gate);
  await row.getByLabel("Your reason").fill("I have it in writing");
  await row.getByRole("button", { name: "Approve", exact: true }).click();
  await expect(row).toContainText("Odile Farrow approved of it");
  await page.goto(gate);
  await expect(page.getByText("All is settled.")).toBeVisible();

  // Another reason, the step taken out and done again: it is void, and the lead is asked anew.
  await page.goto("/jobs/J-1043");
  await page.getByRole("button", { name: /Take out step 1/ }).click();
  await expect(step(page, "Delete D: Old system")).toHaveCount(0);
  await page.getByRole("button", { name: /^Undo/ }).click();
  await expect(step(page, "Delete D: Old system")).toBeVisible();
  await page.goto(gate);
  await expect(page.getByText("All is settled.")).toHaveCount(0);
  await expect(old).toContainText(/What Odile Farrow said .* is void/);
  await expect(old).toContainText("Tobias Wren asks the lead");
  await page.goto("/jobs/J-1043");
  await expect(page.getByRole("button", { name: "Carry out" })).toHaveCount(0);
  await page.getByRole("button", { name: /Take out step 1/ }).click();
  await expect(step(page, "Delete D: Old system")).toHaveCount(0);
  await lead.goto("/trail?job=J-1043&act=answer");
  await expect(lead.locator("tbody")).toContainText(
    /Approved, as Tobias Wren asked: Delete .* without a backup; it may hold personal files/,
  );
  await expect(lead.locator("tbody")).toContainText("Ask the bakery first");
});

test("the lead waives over personal files", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto("/jobs/J-1043?p=3");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await page.getByRole("link", { name: "Safeguard" }).click();
  const old = page.locator(".gate tbody tr").first();
  await old.getByText("Delete without a backup", { exact: true }).click();
  await old.getByLabel(/without a backup/).fill("The recipes were printed");
  await old.getByRole("button", { name: "Give the reason" }).click();
  await expect(page.getByText("All is settled.")).toBeVisible();
  await expect(old).toContainText("The recipes were printed");
  await page.getByRole("link", { name: "To the map" }).click();
  await page.getByRole("button", { name: /Take out step 1/ }).click();
});

test("one file is restored from the browser, the plan carried out, its place erased", async ({ page }) => {
  await signIn(page, "ines");
  await page.goto("/shelf");
  await page.getByLabel("Job").selectOption("J-1044");
  await page.getByRole("button", { name: "Show" }).click();
  await sound(page);
  await picture(page, "shelf");
  await page.getByRole("link", { name: "G: Catalogue" }).click();
  await expect(page.getByText("G: Catalogue in bay E is as it was when the backup was made.")).toBeVisible();
  await sound(page);
  await page.getByRole("link", { name: "Look inside" }).click();
  await sound(page);
  await page.locator("td.path a").first().click();
  const name = (await page.locator("td.path a[download]").first().innerText()).trim();
  // Taken out by itself.
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name, exact: true }).click(),
  ]);
  const sum = createHash("sha256")
    .update(readFileSync(await download.path()))
    .digest("hex");
  // Put into a folder of another volume, through the plan.
  await page.getByRole("checkbox", { name: `Choose ${name}`, exact: true }).check();
  await page
    .getByLabel("Into the volume")
    .selectOption({ label: await page.locator("#target option", { hasText: "E: Lending" }).innerText() });
  await page.getByLabel(/Into its folder/).fill("From Catalogue");
  await sound(page);
  await page.getByRole("button", { name: "Plan it" }).click();
  await expect(step(page, "Put files into E: Lending")).toBeVisible();
  await page.getByLabel(/Serial check/).fill("0-4D7C");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await expect(block(page, "G: Catalogue")).toHaveCount(0);
  // It is there, to the byte.
  const into = page.locator(".part:not([hidden])");
  await block(page, "E: Lending").click();
  await into.getByRole("link", { name: "Folders and files" }).click();
  await page.getByRole("link", { name: "From Catalogue" }).click();
  while ((await page.getByRole("link", { name, exact: true }).count()) === 0)
    await page.locator("td.path a").first().click();
  const [again] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name, exact: true }).click(),
  ]);
  expect(
    createHash("sha256")
      .update(readFileSync(await again.path()))
      .digest("hex"),
  ).toBe(sum);

  // The record of what was erased keeps no contents and no names.
  await page.goto("/trail?act=delete&job=J-1044");
  const erased = page.locator("tbody tr", { hasText: "Recovery" });
  await expect(erased).toContainText("Delete and erase Recovery: overwritten");
  await erased.getByRole("link", { name: "record" }).click();
  await expect(page.getByText(/no contents and no names/)).toBeVisible();
  await sound(page);
});

test("the last backup that a record relies on is deleted by the lead, with a reason", async ({
  baseURL,
  browser,
  page,
}) => {
  const ines = await (await browser.newContext({ baseURL })).newPage();
  await signIn(ines, "ines");
  await ines.goto("/shelf?job=J-1044");
  await ines.getByRole("link", { name: "OEM" }).click();
  await ines.getByText("Delete this backup").click();
  await ines.getByLabel("Reason").fill("The maker's area is on its site");
  await ines.getByRole("button", { name: "Delete the backup" }).click();
  await expect(ines.locator(".flash")).toContainText(/only the lead may do that.*Nothing was deleted/i);
  await signIn(page, "odile");
  await page.goto("/shelf?job=J-1044");
  await page.getByRole("link", { name: "OEM" }).click();
  await expect(page.getByText("A record relies on it")).toBeVisible();
  await page.getByLabel("Keep until").fill("2027-03-01");
  await page.getByRole("button", { name: "Set" }).click();
  await expect(page.getByLabel("Keep until")).toHaveValue("2027-03-01");
  await page.getByText("Delete this backup").click();
  await sound(page);
  const id = page.url().split("/").pop();
  const forced = await page.request.post("/shelf/delete", { form: { backup: id } });
  expect(await forced.text()).toContain("relies on it; nothing was deleted");
  await page.reload();
  await page.getByText("Delete this backup").click();
  await page.getByLabel("Reason").fill("The maker's area is on its site");
  await page.getByRole("button", { name: "Delete the backup" }).click();
  await expect(page.getByText("The backup was deleted.")).toBeVisible();
  await page.goto("/trail?act=delete-backup");
  await expect(page.locator("tbody")).toContainText("can no longer be brought back from it");
  await expect(page.locator("tbody")).toContainText("The maker's area is on its site");
});

test("a volume is made and filled in one plan", async ({ page }) => {
  await signIn(page, "ines");
  await page.goto("/jobs/J-1044?bay=E");
  await page
    .getByRole("button", { name: /^gap of 751.* in Now/ })
    .first()
    .click();
  const side = page.locator(".part:not([hidden])");
  await side.getByLabel("Size").fill("10 GiB");
  await side.getByLabel("Label").fill("Recordings");
  await side.getByRole("button", { name: "Add step: create" }).click();
  await expect(step(page, "Create Recordings")).toBeVisible();
  await page.goto("/shelf?job=J-1044");
  await page.getByRole("link", { name: "G: Catalogue" }).click();
  await page
    .getByLabel("Into the volume")
    .selectOption({ label: await page.locator("#target option", { hasText: "step 1 makes" }).innerText() });
  await page.getByRole("button", { name: "Plan it" }).click();
  await expect(step(page, "Put files into Recordings")).toBeVisible();
  await page.getByLabel(/Serial check/).fill("0-4D7C"); // another drive looks like this one
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await expect(block(page, "Recordings")).toBeVisible();
  // An image is restored into a gap, and grown.
  await page.request.post("/jobs/J-1044/back-up?bay=E", { form: { partition: "4", kind: "image" } });
  await expect(async () => {
    await page.goto("/shelf?job=J-1044");
    await expect(page.getByRole("link", { name: "Recordings" })).toBeVisible();
  }).toPass();
  await page.getByRole("link", { name: "Recordings" }).click();
  await page
    .getByLabel("Into the gap")
    .selectOption({ label: await page.locator("#gap option", { hasText: "J-1044" }).first().innerText() });
  await page.getByLabel(/^Size/).fill("12 GiB");
  await sound(page);
  await page.getByRole("button", { name: "Plan it" }).last().click();
  await expect(step(page, "Restore Recordings")).toBeVisible();
  await page.getByLabel(/Serial check/).fill("0-4D7C"); // another drive looks like this one
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });

  // And into a folder on the bench.
  await page.goto("/shelf?job=J-1044");
  await page.getByRole("link", { name: "G: Catalogue" }).click();
  await page.getByRole("button", { name: "Into a folder on the bench" }).click();
  await expect(page.locator("#work")).toContainText(/compared, all the same/);
});
