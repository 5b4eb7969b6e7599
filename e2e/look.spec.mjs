import { execFileSync } from "node:child_process";
import { createHash } from "node:crypto";
import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { block, everyPage, picture, reach, signIn, sound } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "look" });

test.describe.configure({ mode: "serial" });

const scratch = mkdtempSync(join(tmpdir(), "jadetrail-look-"));

async function finished(page, says) {
  await expect(page.locator("#work")).toContainText(says, { timeout: 20000 });
}

test("a first visit is small over the wire, and what is kept is not sent again", async ({ page }) => {
  const wire = await page.context().newCDPSession(page);
  await wire.send("Network.enable");
  let bytes = 0;
  wire.on("Network.loadingFinished", (e) => (bytes += e.encodedDataLength));
  await page.goto("/sign-in", { waitUntil: "networkidle" });
  expect(bytes).toBeGreaterThan(50 << 10);
  expect(bytes).toBeLessThan(160 << 10);
  bytes = 0;
  await page.goto("/sign-in", { waitUntil: "networkidle" });
  expect(bytes).toBeLessThan(20 << 10);
});

test("on a tablet, by touch: a partition is chosen on the map, and what is touched is large enough", async ({
  browser,
}) => {
  const tablet = await browser.newContext({ viewport: { width: 820, height: 1180 }, hasTouch: true, isMobile: true });
  const page = await tablet.newPage();
  await signIn(page, "tobias");
  await page.goto("/jobs/J-1042");
  await block(page, "Recovery").tap();
  // The panel comes up from below, and is laid down again.
  await expect(page.getByRole("heading", { name: "Recovery", exact: true })).toBeVisible();
  const panel = await page.locator(".side").boundingBox();
  expect(Math.round(panel.y + panel.height)).toBe(1180);
  expect(panel.height).toBeGreaterThan(300);
  await sound(page);
  await page.locator(".side").getByRole("button", { name: "Recovery", expanded: true }).tap();
  await expect(page.getByRole("heading", { name: "Recovery", exact: true })).toBeHidden();
  await block(page, "OEM").tap();
  await expect(page.getByRole("heading", { name: "OEM", exact: true })).toBeVisible();
  await page.keyboard.press("Escape");
  for (const path of ["/jobs/J-1042", "/", "/jobs/J-1042/safeguard", "/dock"]) {
    await page.goto(path);
    const small = await page.evaluate(() =>
      [...document.querySelectorAll("main .act, .rail .act, main select, main .input")]
        .filter((e) => e.checkVisibility() && e.getBoundingClientRect().height < 44)
        .map((e) => e.outerHTML.slice(0, 80)),
    );
    expect(small).toEqual([]);
    expect(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth)).toBe(true);
  }
  await tablet.close();
});

test("with letters of twice the size nothing goes out of the window", async ({ page }) => {
  await signIn(page, "odile");
  for (const path of [...everyPage, "/jobs", "/jobs/new", "/jobs/J-1042/about", "/people", "/find?q=Tidewater"]) {
    await page.goto(path);
    await page.evaluate(() => (document.documentElement.style.fontSize = "30px"));
    const wide = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth);
    expect(wide, path).toBeLessThanOrEqual(0);
  }
  await page.goto("/");
  await page.evaluate(() => (document.documentElement.style.fontSize = "30px"));
  await sound(page);
});

test("an image is sent in pieces, attached, handed out and detached", async ({ page }) => {
  await signIn(page);
  await page.getByRole("link", { name: "Dock", exact: true }).click();
  await sound(page);
  // Nine MiB that do not compress: it takes three pieces.
  const image = Buffer.alloc(9 << 20);
  for (let i = 0, x = 7; i < image.length; i += 4)
    image.writeUInt32LE((x = (Math.imul(x, 1664525) + 1013904223) >>> 0), i);
  image.fill(0, 0, 4096);
  const path = join(scratch, "sent drive.img");
  writeFileSync(path, image);
  let pieces = 0;
  await page.route("**/dock/uploads/*", async (route) => (++pieces === 2 ? route.abort() : route.continue())); // one is lost on the way
  await page.getByLabel("Send an image").setInputFiles(path);
  await page.getByRole("button", { name: "Send", exact: true }).click();
  await expect(page.getByText("sent drive.img")).toBeVisible({ timeout: 20000 });
  expect(pieces).toBe(4);
  await page.unroute("**/dock/uploads/*");
  await sound(page);

  // What carries no serial number is asked for one; with a wrong one nothing is attached.
  const form = page.locator(".docked li", { hasText: "sent drive.img" });
  await form.getByLabel("Model").fill("9 MB test stick");
  await form.getByLabel("Serial number").fill("STK 1");
  await form.getByRole("button", { name: "Attach" }).click();
  await expect(page.getByRole("status")).toContainText("needs a serial number");
  await form.getByLabel("Model").fill("9 MB test stick");
  await form.getByLabel("Serial number").fill("STK1-000-9C9C");
  await form.getByLabel("read-only, for evidence").check();
  await form.getByLabel("stick or card").check();
  await form.getByRole("button", { name: "Attach" }).click();
  await finished(page, "has the drive STK1-000-9C9C");
  const row = page.getByRole("row", { name: /STK1-000-9C9C/ });
  await expect(row).toContainText("removable");
  await expect(row).toContainText("read-only");
  await picture(page, "dock");

  // Handed out, it is to the byte what came in.
  await row.getByLabel(/File format for bay/).selectOption("qcow2");
  await row.getByRole("button", { name: "Hand out" }).click();
  await finished(page, "Written out as");
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: /\.qcow2/ }).click(),
  ]);
  await download.saveAs(join(scratch, "out.qcow2"));
  expect(readFileSync(join(scratch, "out.qcow2")).subarray(0, 4).toString("latin1")).toBe("QFI\xfb");
  await row.getByLabel(/File format for bay/).selectOption("raw");
  await row.getByRole("button", { name: "Hand out" }).click();
  await finished(page, "stk1-000-9c9c.img");
  const [raw] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "stk1-000-9c9c.img", exact: true }).click(),
  ]);
  await raw.saveAs(join(scratch, "out.img"));
  expect(Buffer.compare(readFileSync(join(scratch, "out.img")), image)).toBe(0);

  await row.getByRole("button", { name: /For writing/ }).click();
  await expect(page.getByRole("status")).toContainText("Only the lead may do that");
  await signIn(page, "odile");
  await page.goto("/dock");
  await row.getByRole("button", { name: /For writing/ }).click();
  await expect(page.getByRole("status")).toContainText("attached for writing");
  await signIn(page);
  await page.goto("/dock");
  await page
    .getByRole("row", { name: /STK1-000-9C9C/ })
    .getByRole("button", { name: /Detach/ })
    .click();
  await expect(page.getByRole("status")).toContainText("is empty");

  // It waits in the dock with its identity.
  await expect(page.locator(".docked li", { hasText: "stk1-000-9c9c.img" })).toContainText("STK1-000-9C9C");
});

test("a blank drive is made, and what is refused says why", async ({ page }) => {
  await signIn(page);
  await page.goto("/dock");
  const make = page.locator("form[action='/dock/blank']");
  for (const [size, says] of [
    ["-5 GB", "negative"],
    ["lots", "not an amount"],
    ["10 KiB", "at least 1 MiB"],
  ]) {
    await make.getByLabel("Size").fill(size);
    await make.getByLabel("Model").fill("2 TB new drive");
    await make.getByLabel("Serial number").fill("NEW2-002-0007");
    await make.getByRole("button", { name: "Make the drive" }).click();
    await expect(page.getByRole("status")).toContainText(says, { ignoreCase: true });
  }
  await make.getByLabel("Size").fill("2 TB");
  await make.getByLabel("Model").fill("2 TB new drive");
  await make.getByLabel("Serial number").fill("NEW2-002-0007");
  await make.getByLabel("Sectors").selectOption("4096");
  await make.getByRole("button", { name: "Make the drive" }).click();
  await expect(page.getByRole("status")).toContainText("0 partitions");
  await expect(page.getByRole("row", { name: /NEW2-002-0007/ })).toContainText("2 TB");
  await page
    .getByRole("row", { name: /NEW2-002-0007/ })
    .getByRole("button", { name: /Detach/ })
    .click();
  await expect(page.getByRole("status")).toContainText("is empty");
});

test("inside a volume: pages, finding by name, files and folders taken out, what fills it", async ({ page }) => {
  await signIn(page);
  await page
    .locator(".jobs")
    .getByRole("link", { name: /Kiln & Clover/ })
    .click();
  await block(page, "D: Old system").click();
  await expect(page.getByText("The PC can start it, when asked.")).toBeVisible();
  await page.locator(".part:not([hidden])").getByRole("link", { name: "Folders and files" }).click();
  await sound(page);
  for (const folder of ["Windows", "System32"]) await page.getByRole("link", { name: folder, exact: true }).click();
  await expect(page.getByRole("link", { name: "module-000.dll" })).toBeVisible();
  await expect(page.getByRole("link", { name: "module-219.dll" })).toBeHidden(); // on the next page
  await page.getByRole("link", { name: "The next ones" }).click();
  await expect(page.getByRole("link", { name: "module-219.dll" })).toBeVisible();
  await page.getByLabel("Find by name").fill("TEST 007");
  await page.getByRole("button", { name: "Find" }).click();
  await expect(page.getByText("1 found")).toBeVisible();
  const [one] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: /test 007\.txt/ }).click(),
  ]);
  await one.saveAs(join(scratch, "one.txt"));
  expect(one.suggestedFilename()).toBe("test 007.txt");
  await page.getByRole("link", { name: "Back to the folders" }).click();
  for (const folder of ["Users", "Clover", "Glaze recipes"])
    await page.getByRole("link", { name: folder, exact: true }).click();
  await picture(page, "inside");
  const [tar] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: /as a tar/ }).click(),
  ]);
  await tar.saveAs(join(scratch, "folder.tar"));
  const list = execFileSync("tar", ["-tf", join(scratch, "folder.tar")])
    .toString()
    .trim()
    .split("\n");
  expect(list.filter((n) => n.endsWith(".txt")).length).toBe(320);
  const inTar = execFileSync("tar", [
    "-xOf",
    join(scratch, "folder.tar"),
    list.find((n) => n.endsWith("test 007.txt")),
  ]);
  expect(createHash("sha256").update(inTar).digest("hex")).toBe(
    createHash("sha256")
      .update(readFileSync(join(scratch, "one.txt")))
      .digest("hex"),
  );
  await page.getByRole("link", { name: "What fills it" }).click();
  await page.locator(".crumbs.dark").getByRole("link", { name: "D: Old system" }).click();
  await expect(page.getByText("It looks like an operating system or a copy of one.")).toBeVisible();
  await sound(page);
  await page.getByRole("link", { name: /^Windows, / }).click({ position: { x: 20, y: 12 }, timeout: 8000 }); // a tile of the picture
  await page.goBack();
  await page.getByRole("link", { name: "Users", exact: true }).click();
  await expect(page.getByRole("cell", { name: "Clover" })).toBeVisible();
});

test("two volumes are compared folder by folder", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto("/jobs/J-1043/compare?p=3&path=Users/Clover/Glaze recipes");
  await sound(page);
  await page.getByLabel("Folder there").fill("nowhere");
  await page.getByRole("button", { name: "Compare" }).click();
  await expect(page.getByRole("status")).toContainText("There is no folder nowhere");
  const value = await page.locator("#with option", { hasText: "Bay D, C: System" }).getAttribute("value");
  await page.getByLabel("With").selectOption(value);
  await page.getByRole("button", { name: "Compare" }).click();
  await finished(page, "0 the same");
  await page
    .getByRole("row", { name: /not covered/ })
    .getByRole("link")
    .first()
    .click();
  await expect(page.getByText("Not covered")).toBeVisible();
  await sound(page);
});

test("letters and obstacles by keyboard alone", async ({ page }) => {
  await signIn(page);
  await reach(page, page.locator(".jobs").getByRole("link", { name: /Moss Lane Cycles/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByText("only its letter is missing: the card reader has it")).toBeVisible();
  await sound(page);
  // Down the map to the running system; w leads to why it cannot be changed.
  await reach(page, page.locator(".map g[role=button][tabindex='0']"));
  for (let i = 0; i < 9 && !(await page.getByRole("heading", { name: "C: System" }).isVisible()); i++)
    await page.keyboard.press("ArrowDown");
  await page.keyboard.press("w");
  await expect(page.locator(".part:not([hidden]) .why").first()).toBeFocused();
  await expect(page.locator(".part:not([hidden]) .why").first()).toContainText("the running system holds it open");
  await reach(page, page.locator(".map g[role=button][tabindex='0']"), "Shift+Tab");
  for (let i = 0; i < 9 && !(await page.getByRole("heading", { name: "Tills" }).isVisible()); i++)
    await page.keyboard.press("ArrowDown");
  // The taken letter is refused with a proposal; the free one is given.
  const letter = page.locator(".part:not([hidden])").getByLabel(/Letter of Tills/);
  for (const [text, says] of [
    ["T", "U: is free"],
    ["7", "not a letter"],
    ["U", "has the letter U: now"],
  ]) {
    await reach(page, letter);
    await page.keyboard.type(text);
    await page.keyboard.press("Enter");
    await expect(page.getByRole("status")).toContainText(says);
  }
  await expect(page.getByRole("heading", { name: "U: Tills" })).toBeVisible();
  // The PC's page: it is switched off, then nothing is held.
  await reach(page, page.getByRole("link", { name: "till PC", exact: true }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "The till PC is running" })).toBeVisible();
  await sound(page);
  await picture(page, "pc");
  const [facts] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Write the facts out" }).click(),
  ]);
  await facts.saveAs(join(scratch, "pc.json"));
  await reach(page, page.getByRole("button", { name: /Switch it off/ }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "The till PC is off" })).toBeVisible();
  await expect(page.getByText("the running system")).toBeHidden();
  // Facts that cannot be are refused; those written out are read in again.
  writeFileSync(join(scratch, "bad.json"), '{"version": 1, "state": "asleep"}');
  await page.getByLabel(/Read facts in/).setInputFiles(join(scratch, "bad.json"));
  await page.getByRole("button", { name: "Read in" }).click();
  await expect(page.getByRole("status")).toContainText("The facts are as they were");
  await page.getByLabel(/Read facts in/).setInputFiles(join(scratch, "pc.json"));
  await page.getByRole("button", { name: "Read in" }).click();
  await expect(page.getByRole("heading", { name: "The till PC is running" })).toBeVisible();
});

test("a lost partition is told from a missing letter; a container, its volumes and look-alikes", async ({ page }) => {
  await signIn(page);
  await expect(page.getByText("The partition of P: is missing.")).toBeVisible();
  await page
    .locator(".jobs")
    .getByRole("link", { name: /Saltmarsh/ })
    .click();
  await expect(page.getByText("its partition is missing from this drive")).toBeVisible();
  await page.goto("/jobs/J-1046");
  await expect(page.getByText("The serial check asks for 5 characters.")).toBeVisible();
  await expect(page.getByText("Container (370.0 GiB) lies before the 411.5 GiB gap.")).toBeVisible();
  await block(page, "E: Recipes").click();
  await expect(page.locator(".part:not([hidden]) .why").first()).toContainText("F: Old backup (160 GiB) follows it");
  await page.goto("/jobs/J-1046?p=2");
  await expect(page.locator('.part:not([hidden]) [data-deed="container"]').first()).toContainText(
    "Make the container larger",
  );
  await page.getByRole("button", { name: /^gap of 411.5 GiB/ }).click();
  await expect(page.locator(".part:not([hidden])")).toContainText("Create a volume here");
  await sound(page);
});

test("attaching, looking inside and comparing by keyboard alone", async ({ page, shop }) => {
  writeFileSync(join(shop.data, "dock", "keys.img"), Buffer.alloc(1 << 20));
  await signIn(page);
  const go = async (target) => {
    await reach(page, target);
    await page.keyboard.press("Enter");
  };
  const type = async (target, text) => {
    await reach(page, target);
    await page.keyboard.type(text);
  };
  await go(page.getByRole("link", { name: "Dock", exact: true }));
  const item = page.locator(".docked li", { hasText: "keys.img" });
  await type(item.getByLabel("Model"), "1 MB test card");
  await type(item.getByLabel("Serial number"), "KEY1-000-5D5D");
  await type(item.getByLabel("Job"), "J-1044"); // a list is worked by typing too
  await reach(page, item.getByLabel("stick or card"));
  await page.keyboard.press("Space");
  await go(item.getByRole("button", { name: "Attach" }));
  await finished(page, "has the drive KEY1-000-5D5D");
  await expect(page.getByRole("row", { name: /KEY1-000-5D5D/ })).toContainText("removable");
  await expect(page.getByRole("row", { name: /KEY1-000-5D5D/ })).toContainText("J-1044");

  // Another drive of the job: from its page to the inside of a volume, and to one file.
  await go(page.getByRole("link", { name: "Bench" }));
  await go(page.locator(".jobs").getByRole("link", { name: /Fernhill Choir/ }));
  if (!(await page.getByRole("heading", { name: /Bay E/ }).isVisible()))
    await go(page.getByRole("link", { name: "Bay E" }));
  await reach(page, page.locator(".map g[role=button][tabindex='0']"));
  for (let i = 0; i < 9 && !(await page.getByRole("heading", { name: "G: Catalogue" }).isVisible()); i++)
    await page.keyboard.press("ArrowDown");
  await go(page.locator(".part:not([hidden])").getByRole("link", { name: "Folders and files" }));
  await expect(page.getByRole("heading", { name: "Inside G: Catalogue" })).toBeVisible();
  await page.keyboard.press("/"); // to the field that finds
  await page.keyboard.type("part 99");
  await page.keyboard.press("Enter");
  await expect(page.getByText("1 found")).toBeVisible();
  const coming = page.waitForEvent("download");
  await go(page.getByRole("link", { name: /part 99\.pdf/ }));
  expect((await coming).suggestedFilename()).toBe("part 99.pdf");
  await go(page.getByRole("link", { name: "What fills it" }));
  await go(page.getByRole("link", { name: /^Covers, / }));
  await expect(page.getByText("30 files,")).toBeVisible();

  // Compared with another volume, by folder.
  await go(page.getByRole("link", { name: /J-1044/ }));
  await reach(page, page.locator(".part:not([hidden])").getByRole("link", { name: "compare" }));
  await page.keyboard.press("Enter");
  await type(page.getByLabel("Folder here"), "Scores/Carols");
  await type(page.getByLabel("With"), "Bay B");
  await go(page.getByRole("button", { name: "Compare", exact: true }));
  await finished(page, "0 the same, 105 only here");
  await go(
    page
      .getByRole("row", { name: /not covered/ })
      .getByRole("link")
      .first(),
  );
  await expect(page.getByRole("heading", { name: /compared with Shelf/ })).toBeVisible();
});
