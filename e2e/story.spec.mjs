import { block, everyPage, picture, reach, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "story" });

test.describe.configure({ mode: "serial" });

test("back up, delete the recovery partition, grow C:, see trail and record", async ({ page }) => {
  await page.goto("/sign-in");
  await sound(page);
  await signIn(page);
  await sound(page);
  await picture(page, "bench");
  await page
    .locator(".jobs")
    .getByRole("link", { name: /Tidewater Vets/ })
    .click();

  // C: needs space, and the page says why it cannot have it.
  await expect(page.getByRole("heading", { name: "C: System" })).toBeVisible();
  await expect(
    page
      .locator(".part:not([hidden])")
      .getByText("Recovery (1.26 GiB), X: X-rays (210 GiB) and OEM (14.2 GiB) lie before the 113.2 GiB gap.", {
        exact: true,
      }),
  ).toBeVisible();
  await expect(page.getByText("The PC starts this system.")).toBeVisible();
  await sound(page);
  await picture(page, "drive");

  // The recovery partition is backed up first, with live progress.
  await block(page, "Recovery").click();
  await expect(page.getByRole("heading", { name: "Recovery", exact: true })).toBeVisible();
  await page.getByRole("button", { name: "Back it up first" }).click();
  await expect(page.locator("#work")).toContainText(/Backed up and verified by reading back: Recovery/);
  await expect(page.getByText("Backed up as it is now, verified.")).toBeVisible();

  // Released with a reason, then deleted: planned only.
  await page.getByRole("textbox", { name: /^Protected/ }).fill("The customer keeps a rescue stick");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await expect(step(page, "Delete Recovery")).toBeVisible();
  await expect(page.getByText("all that goes is covered")).toBeVisible();

  // C: can grow now; the amount says what it means in other units.
  await block(page, "C: System").click();
  const gains = page.getByRole("textbox", { name: "Gains" });
  for (const [text, says] of [
    ["-5", "negative"],
    ["lots", "not an amount"],
    ["5 GiB", "more than the"],
  ]) {
    await gains.fill(text);
    await expect(page.locator("#means3")).toContainText(says, { ignoreCase: true });
  }
  await gains.fill("1024 MiB");
  await expect(page.locator("#means3")).toContainText(
    "1.00 GiB = 1 024 MiB = 1.07 GB = 1 073 741 824 bytes; then 139 GiB in all",
  );
  await page.getByRole("button", { name: "Add step", exact: true }).click();
  await expect(step(page, "Grow C: System")).toBeVisible();
  await expect(page.getByText("ready", { exact: true })).toBeVisible();
  await sound(page);
  await picture(page, "plan");

  // Nothing is written before it is carried out: a rehearsal shows that it works.
  await page.getByRole("button", { name: "Rehearse on a copy" }).click();
  await expect(page.locator("#work")).toContainText("Rehearsed on a throw-away copy");

  // The serial check.
  await page.getByLabel(/Serial check/).fill("7F3X");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("The serial check failed");
  await page.getByLabel(/Serial check/).fill("7f3k");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned");
  await expect(block(page, "C: System, 139 GiB")).toBeVisible();
  await sound(page);
  await page.locator(".stages").getByRole("link", { name: "Confirm" }).click();
  await expect(page.getByText("The drive was read back and is as planned.")).toBeVisible();
  await expect(page.locator("tbody tr", { hasText: "C: System" })).toContainText("grown by 1 GiB");
  await sound(page);
  await picture(page, "confirm");

  // The trail has every act under her name, and its chain is whole.
  await page.getByRole("link", { name: "Trail", exact: true }).click();
  await expect(page.getByText("The chain is whole")).toBeVisible();
  for (const act of ["backed up", "plan begun", "protection lifted", "deleted", "grown", "carried out"]) {
    await expect(page.getByRole("row", { name: new RegExp(`Ines Marsh ${act}`) }).first()).toBeVisible();
  }
  await sound(page);
  await picture(page, "trail");

  // The record of the deletion.
  await page
    .getByRole("row", { name: /deleted/ })
    .getByRole("link", { name: "record" })
    .click();
  await expect(page.getByRole("heading", { name: "Record of Recovery" })).toBeVisible();
  await expect(page.getByText("Genuine")).toBeVisible();
  await expect(page.getByText("Its place is taken, all or in part: C: System lies there now.")).toBeVisible();
  await expect(page.getByText("Recovery/settings.xml")).toBeVisible();
  await expect(page.getByText("It is rebuilt from its backup, at another place.")).toBeVisible();
  await expect(page.getByText("0x8000000000000001")).toBeVisible();
  await sound(page);
});

test("delete the OEM area and bring it back", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto("/jobs/J-1042?p=6");
  await page.getByRole("textbox", { name: /^Protected/ }).fill("Not wanted by the customer");
  await page.locator(".part:not([hidden]) summary", { hasText: "without a backup" }).click();
  await page.getByRole("textbox", { name: /without a backup/ }).fill("The maker sends a stick on request");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await page.getByLabel(/Serial check/).fill("7F3K");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned");
  await expect(block(page, "OEM")).toHaveCount(0);
  // The pile of stones between the last mark and now leads to the record.
  await page.getByRole("link", { name: "Record of OEM" }).click();
  await expect(
    page.getByText(/It comes back at its own place; all of the .* that were in use untouched/),
  ).toBeVisible();
  await page.getByRole("button", { name: "Plan to bring it back" }).click();
  await expect(step(page, "Bring back OEM")).toBeVisible();
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned");
  await expect(block(page, "OEM, 14.2 GiB")).toBeVisible();
});

test("a step can be taken out again", async ({ page }) => {
  await signIn(page);
  await page.goto("/jobs/J-1042?p=2");
  await page.getByRole("textbox", { name: /^Protected/ }).fill("Not needed");
  await page.getByRole("button", { name: "Add step: delete" }).click();
  await expect(step(page, "Delete Reserved")).toBeVisible();
  await page.getByRole("button", { name: /Take out step 1/ }).click();
  await expect(page.getByText("no steps yet")).toBeVisible();
});

test("look inside, shelf, keys and errors", async ({ page }) => {
  await signIn(page);
  await page.goto("/jobs/J-1042?p=5");
  await page.getByRole("link", { name: "Folders and files" }).click();
  await page.getByRole("link", { name: "X-rays", exact: true }).last().click();
  await page.getByRole("link", { name: "2025" }).click();
  await expect(page.getByRole("cell", { name: /view 1\.xry/ }).first()).toBeVisible();
  await sound(page);
  await picture(page, "inside");

  await page.getByRole("link", { name: "Shelf", exact: true }).click();
  await page.getByRole("link", { name: "Recovery" }).first().click();
  await page.getByRole("button", { name: "Verify again" }).click();
  await expect(page.locator("#work")).toContainText("is whole: every piece reads back");
  await page.getByRole("button", { name: "Make ready to hand over" }).click();
  await expect(page.getByRole("link", { name: "Download" })).toBeVisible({ timeout: 90_000 });
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Download" }).click(),
  ]);
  expect(download.suggestedFilename()).toMatch(/^b-.*-image\.zst$/);
  await sound(page);

  await page.keyboard.press("?");
  await expect(page.getByRole("dialog")).toBeVisible();
  await sound(page);
  await page.keyboard.press("Escape");
  await page.keyboard.press("/");
  await expect(page.locator("#anything")).toBeFocused();
  await page.keyboard.type("x-rays");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Drives in the bays" })).toBeVisible();
  await expect(page.getByRole("link", { name: "X: X-rays", exact: true })).toBeVisible();
  await expect(page.getByRole("heading", { name: "In the trail" })).toHaveCount(0);
  await sound(page);
  await page.locator("#find").fill("tlx5220");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("link", { name: /Bay A, 512 GB/ })).toBeVisible();
  await page.locator("#find").fill("nothing of the kind");
  await page.keyboard.press("Enter");
  await expect(page.getByText("Nothing here has “nothing of the kind” in it.")).toBeVisible();
  await sound(page);

  await page.goto("/jobs/J-9999");
  await expect(page.getByRole("heading", { name: "Not found" })).toBeVisible();
  await sound(page);
});

test("the map by keyboard alone", async ({ page }) => {
  await signIn(page);
  await page.goto("/jobs/J-1042?p=1");
  await block(page, "EFI").focus();
  await page.keyboard.press("ArrowDown");
  await expect(page.getByRole("heading", { name: "Reserved" })).toBeVisible();
  await page.keyboard.press("ArrowDown");
  await expect(page.getByRole("heading", { name: "C: System" })).toBeVisible();
  const before = await block(page, "C: System").boundingBox();
  await page.keyboard.press("t");
  await expect.poll(async () => (await block(page, "C: System").boundingBox()).height).not.toBe(before.height);
  await page.keyboard.press("w");
  await expect(page.locator(".part:not([hidden]) .why").first()).toBeFocused();
});

test("nobody gets in without signing in", async ({ page, request }) => {
  for (const path of ["/", "/jobs/J-1042", "/trail", "/trail.jsonl", "/shelf"]) {
    const answer = await request.get(path, { maxRedirects: 0 });
    expect(answer.status(), path).toBe(303);
  }
  await page.goto("/sign-in");
  await page.getByLabel("Name", { exact: true }).fill("ines");
  await page.getByLabel("Password", { exact: true }).fill("wrong");
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("alert")).toContainText("do not belong together");
  // A form that another site sends is refused.
  await signIn(page);
  const forged = await page.request.post("/jobs/J-1042/rehearse", {
    headers: { "Sec-Fetch-Site": "cross-site", Origin: "http://elsewhere.example" },
  });
  expect(forged.status()).toBe(403);
});

test("without scripts every page is whole, and a deletion goes from its table to its proof", async ({
  browser,
  baseURL,
}) => {
  const context = await browser.newContext({ javaScriptEnabled: false, baseURL });
  const page = await context.newPage();
  await signIn(page, "odile");
  for (const path of everyPage) {
    await page.goto(path);
    await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
    // No control is there that does nothing.
    await expect(page.locator("button[type=button]:visible, form:not([action]):visible"), path).toHaveCount(0);
  }
  await page.goto("/dock");
  await expect(page.getByText("this browser runs none")).toBeVisible();
  await page.goto("/jobs/J-1044");
  await page
    .locator(".as-table")
    .getByRole("link", { name: /Recovery/ })
    .click();
  await expect(page.getByRole("heading", { name: "Recovery", exact: true })).toBeVisible();
  await page
    .locator(".side section:not([hidden])")
    .getByLabel(/^Protected/)
    .fill("the drive is retired");
  await page
    .locator(".side section:not([hidden])")
    .getByRole("button", { name: /Add step.*delete/ })
    .click();
  await expect(step(page, "Delete Recovery")).toBeVisible();
  await page.locator(".next").getByRole("button", { name: "Back up now" }).click();
  await expect(async () => {
    await page.reload();
    await expect(page.locator(".next")).toContainText("All that the plan needs is there", { timeout: 1000 });
  }).toPass({ timeout: 60_000 });
  const serial = page.getByLabel(/Serial check/);
  if (await serial.count()) await serial.fill("04D7C");
  await page.getByRole("button", { name: "Carry out", exact: true }).click();
  await expect(async () => {
    await page.reload();
    await expect(page.locator(".next")).toContainText("proven, and marked as good", { timeout: 1000 });
  }).toPass({ timeout: 60_000 });
  await context.close();
});

test("a tablet", async ({ page }) => {
  await page.setViewportSize({ width: 820, height: 1180 });
  await signIn(page);
  await page.goto("/jobs/J-1042?p=3");
  await page.locator(".side").getByRole("button", { name: "C: System", expanded: false }).click();
  await expect(page.getByRole("heading", { name: "C: System" })).toBeVisible();
  await sound(page);
  for (const path of everyPage) {
    await page.goto(path);
    await expect(page.getByRole("heading", { level: 1 })).toBeVisible();
    expect(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth), path).toBe(true);
  }
});

test("a whole deletion planned and taken out by keyboard alone", async ({ page }) => {
  await page.goto("/sign-in");
  await page.keyboard.type("tobias"); // the name has the focus
  await page.keyboard.press("Tab");
  await page.keyboard.type("lantern-tobias");
  await page.keyboard.press("Enter");
  await reach(page, page.locator(".jobs").getByRole("link", { name: /Tidewater Vets/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "C: System" })).toBeVisible();
  await reach(page, block(page, "C: System"));
  for (let i = 0; i < 9 && !(await page.getByRole("heading", { name: "OEM", exact: true }).isVisible()); i++)
    await page.keyboard.press("ArrowDown");
  await expect(page.getByRole("heading", { name: "OEM", exact: true })).toBeVisible();
  await reach(page, page.getByRole("textbox", { name: /^Protected/ }));
  await page.keyboard.type("Not wanted");
  await page.keyboard.press("Enter");
  await expect(step(page, "Delete OEM")).toBeVisible();
  await expect(page.getByText("1 of 1 backup missing")).toBeVisible();
  await expect(page.getByText("after 1 backup")).toBeVisible();
  await reach(page, page.getByRole("button", { name: /Take out step 1/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByText("no steps yet")).toBeVisible();
});

test("nothing on the drive's page is cut off, doubled or out of its column", async ({ page }) => {
  await signIn(page);
  for (const p of [1, 2, 3, 5, 6]) {
    await page.goto(`/jobs/J-1042?p=${p}`);
    await expect(page.locator(".map svg").first()).toBeVisible();
    const trouble = await page.evaluate(() => {
      const out = [];
      for (const box of document.querySelectorAll(".stages, .side, .price, .top")) {
        if (box.scrollWidth > box.clientWidth + 1) out.push(`${box.className} is wider than its place`);
      }
      for (const t of document.querySelectorAll(".map text")) {
        const r = t.getBoundingClientRect(),
          m = document.querySelector(".map").getBoundingClientRect();
        if (r.left < m.left - 2 || r.bottom > m.bottom + 2) out.push(`${t.textContent} leaves the map`);
      }
      for (const g of document.querySelectorAll(".map g[role=button]")) {
        const box = g.querySelector("rect").getBoundingClientRect();
        for (const t of g.querySelectorAll(":scope > text:not(.mark)")) {
          const r = t.getBoundingClientRect();
          if (r.right > box.right + 1 || r.left < box.left - 1) out.push(`${t.textContent} leaves its block`);
        }
        const [a, b] = [...g.querySelectorAll(":scope > text:not(.mark)")].map((t) => t.getBoundingClientRect());
        if (a && b && Math.abs(a.top - b.top) < 4 && a.right > b.left) out.push(`${g.textContent} overlaps`);
      }
      const ids = [...document.querySelectorAll("[id]")].map((e) => e.id);
      if (new Set(ids).size !== ids.length) out.push("an id stands twice");
      return out;
    });
    expect(trouble).toEqual([]);
  }
});

test("the dark theme is as sound", async ({ page }) => {
  await page.emulateMedia({ colorScheme: "dark" });
  await page.goto("/sign-in");
  await sound(page);
  await signIn(page, "odile");
  await sound(page);
  for (const path of everyPage) {
    await page.goto(path);
    await expect(page.getByRole("heading", { level: 1 })).not.toHaveText("Not found");
    await sound(page);
  }
  await page.goto("/trail?act=delete");
  await page.getByRole("link", { name: "record" }).first().click();
  await expect(page.getByRole("heading", { name: /Record of/ })).toBeVisible();
  await sound(page);
});
