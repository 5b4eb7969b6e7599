import { signIn } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "clicks" });

test.describe.configure({ mode: "serial" });

// counted clicks, and counts what that takes: clicks, and pages that were loaded.
function counted(page) {
  const n = { clicks: 0, loads: 0, led: [] };
  page.on("load", () => n.loads++);
  n.click = async (what) => {
    n.clicks++;
    await what.click();
  };
  n.leads = async (says) => {
    await expect(page.locator(".next")).toContainText(says, { timeout: 120_000 });
    n.led.push((await page.locator(".next p").innerText()).replace(/\s+/g, " "));
  };
  return n;
}

// atMost holds a job's count to half of what the same job took before the page led.
function atMost(n, clicks, loads) {
  test.info().annotations.push({
    type: "counted",
    description: `${n.clicks} clicks, ${n.loads} loads: ${n.led.join(" | ")}`,
  });
  expect(n.clicks).toBeLessThanOrEqual(clicks);
  expect(n.loads).toBeLessThanOrEqual(loads);
}

// carryOutAndHandOver ends a job whose plan lacks nothing.
async function carryOutAndHandOver(n, page) {
  await n.click(page.getByRole("button", { name: "Carry out", exact: true }));
  await n.leads("proven, and marked as good.");
  await n.click(page.locator(".next").getByRole("link", { name: "Hand over" }));
  await expect(page.getByText("What was done", { exact: true }).first()).toBeVisible();
}

const row = (page, job) => page.locator(".jobs li", { hasText: job });

test("J-1042 from the bench to the hand-over, led at each moment", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  const next = page.locator(".next");
  await n.click(row(page, "J-1042").getByRole("link", { name: /Choose a goal/ }));
  await n.leads("ways to what was asked for");
  await n.click(page.getByRole("button", { name: /^Take this/ }).first());
  await n.leads("1 backup and 1 reason are missing");
  await n.click(next.getByRole("button", { name: "Back up now" }));
  await n.leads("1 reason is missing");
  await next.getByLabel(/Reason for deleting/).fill("its copy is parked");
  await n.click(next.getByRole("button", { name: "Give the reason" }));
  await n.leads("All that the plan needs is there");
  await page.getByLabel(/Serial check/).fill("7F3K");
  await carryOutAndHandOver(n, page);
  atMost(n, 8, 10); // it took 17 clicks and 20 loads
});

test("J-1044 becomes plain storage", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  const next = page.locator(".next");
  await n.click(row(page, "J-1044").getByRole("link", { name: /Choose a goal/ }));
  await n.leads("Two ways to what was asked for");
  await n.click(page.getByRole("button", { name: /^Take this/ }).first());
  await n.leads(/missing/);
  await n.click(next.getByRole("link", { name: /choose, give reasons|Give the reason/ }));
  await n.click(page.locator("details.ask summary").first());
  const reasons = page.locator("details.ask[open]");
  for (const field of await reasons.getByRole("textbox").all()) await field.fill("the drive is a new archive");
  await n.click(reasons.getByRole("button", { name: "Give the reason" }));
  await n.leads(/reason.* missing|All that the plan needs is there/);
  if (!(await next.innerText()).includes("All that")) {
    await n.click(page.locator("details.ask summary").first());
    for (const field of await reasons.getByRole("textbox").all()) await field.fill("the drive is a new archive");
    await n.click(reasons.getByRole("button", { name: "Give the reason" }));
    await n.leads("All that the plan needs is there");
  }
  await n.click(next.getByRole("link", { name: "Carry it out" }));
  await page.getByLabel(/Serial check/).fill("04D7C");
  await carryOutAndHandOver(n, page);
  atMost(n, 9, 10); // it took 18 clicks and 20 loads
});

test("J-1043: one system goes, and its room is C:'s", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  const next = page.locator(".next");
  await n.click(row(page, "J-1043").getByRole("link", { name: /Choose a goal/ }));
  await n.leads("ways to what was asked for");
  await expect(page.locator(".future").first()).toContainText("C: System");
  await n.click(page.getByRole("button", { name: /^Take this/ }).first());
  await n.leads(/missing/);
  await n.click(next.getByRole("link", { name: "choose, give reasons" }));
  await n.click(page.getByRole("radio", { name: /files each/ }));
  await n.click(page.getByRole("button", { name: /^Make the missing/ }));
  await n.leads(/All that the plan needs is there/);
  await n.click(next.getByRole("link", { name: "Carry it out" }));
  await page.getByLabel(/Serial check/).fill("1C8M");
  await carryOutAndHandOver(n, page);
  atMost(n, 14, 14); // it took 29 clicks and 28 loads
});

test("J-1045: P: comes back with its plots", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  await n.click(row(page, "J-1045").getByRole("link", { name: /Search for it/ }));
  await page.locator("#damaged0").fill("all but six plots are whole");
  await n.click(page.getByRole("button", { name: /^Plan this/ }).first());
  await n.leads("All that the plan needs is there");
  await carryOutAndHandOver(n, page);
  atMost(n, 4, 4); // it took 5 clicks and 7 loads
});

test("J-1046: two logical volumes become one, and C: has the gap outside", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  await n.click(row(page, "J-1046").getByRole("link", { name: /Choose a goal/ }));
  await n.leads("Two ways to what was asked for");
  await n.click(page.getByRole("button", { name: /^Take this: Absorb/ }));
  await n.leads("All that the plan needs is there");
  // The other wish goes on from there.
  await page.keyboard.press("g");
  await page.locator("#goal").selectOption("gain");
  await page.getByLabel("Which volume").selectOption({ label: "C: System" });
  n.clicks += 2;
  await page.locator("#gain").fill("100 GiB");
  await n.click(page.getByRole("button", { name: "Work out routes" }));
  await n.click(page.getByRole("button", { name: /^Take this/ }).first());
  await n.leads("All that the plan needs is there");
  const serial = page.getByLabel(/Serial check/);
  if (await serial.count()) await serial.fill("84D7C");
  await carryOutAndHandOver(n, page);
  atMost(n, 10, 7); // it took 20 clicks and 14 loads
});

test("J-1047: T: opens again in one act", async ({ page }) => {
  await signIn(page, "odile");
  const n = counted(page);
  await expect(row(page, "J-1047")).toContainText("the card reader has its letter");
  await n.click(row(page, "J-1047").getByRole("button", { name: /^Open T: again/ }));
  await expect(page.locator(".flash")).toContainText("T: opens Tills");
  await n.click(page.locator(".stages").getByRole("link", { name: "Hand over" }));
  await expect(page.getByText("What was done", { exact: true }).first()).toBeVisible();
  atMost(n, 5, 4); // it took 10 clicks and 9 loads
});
