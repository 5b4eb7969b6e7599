import { block, picture, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-goal" });

test("a goal is said once; its routes have their prices, and one becomes the plan", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto("/jobs/J-1043?bay=D");
  await page.keyboard.press("g");
  await expect(page.locator("#goal")).toBeFocused();
  await page.locator("#goal").selectOption("gain");
  await page.getByLabel("Which volume").selectOption({ label: "C: System" });
  await page.locator("#gain").fill("lots");
  await page.keyboard.press("Enter");
  await expect(page.locator(".goal .care")).toBeVisible();
  // More than there is: what can be had, and what stands in the way.
  await page.locator("#gain").fill("900 GiB");
  await page.keyboard.press("Enter");
  await expect(page.locator(".goal")).toContainText(/C: System can gain .* at most/);
  await page.locator("#gain").fill("100 GiB");
  await page.keyboard.press("Enter");
  const routes = page.locator(".routes tbody tr");
  await expect(routes).toHaveCount(3);
  await expect(routes.nth(0)).toContainText("Slide Recovery");
  await expect(routes.nth(0)).toContainText("1 to check on the PC afterwards");
  await expect(routes.nth(1)).toContainText("the recovery environment moves to a new place");
  await expect(routes.nth(1)).toContainText("nothing is lost");
  await expect(routes.nth(2)).toContainText("gone: Recovery");
  await sound(page);
  await routes.nth(1).getByRole("button", { name: "Take" }).click();
  await expect(page.getByText("Safeguard says what is still asked for.")).toBeVisible();
  for (const title of [
    "Keep a copy of recovery on C: System",
    "Delete Recovery",
    "Grow C: System",
    "Create Recovery",
    "Use the recovery environment",
  ])
    await expect(step(page, title)).toBeVisible();
  // A route that is not there cannot be forced in.
  const forced = await page.request.post("/jobs/J-1043/route?bay=D", {
    form: { goal: "gain", receiver: "4", gain: "100 GiB", route: "x" },
  });
  expect(await forced.text()).toContain("route is not there any more");
  // Another goal goes on from the plan's end: its futures are drawn there, and one is taken by a click.
  await page.goto("/jobs/J-1043?bay=D");
  await page.keyboard.press("g");
  await page.locator("#goal").selectOption("room");
  await page.getByLabel("of", { exact: true }).fill("5 GiB");
  await page.keyboard.press("Enter");
  await page.waitForURL(/goal=room/);
  const future = page.locator(".future").first();
  await expect(future.locator(".cost")).toContainText("nothing is lost");
  await sound(page);
  await future.getByRole("button", { name: /^Take this/ }).click();
  await expect(page.locator(".steps li")).toHaveCount(6);
  await expect(page.locator(".stages")).not.toContainText("cannot be done");
  await expect(page.getByText(/of 5 GiB|5 GiB/).first()).toBeVisible();
  for (let left = 6; left > 0; left--) {
    await page.getByRole("button", { name: new RegExp(`Take out step ${left},`) }).click();
    await expect(page.locator(".steps li")).toHaveCount(left - 1);
  }
});

test("what a job wishes for is drawn beside now before anybody asks, and taken by a key", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto("/");
  const row = page.locator(".jobs li", { hasText: "J-1042" });
  await row.getByRole("link", { name: /Choose a goal/ }).click();
  await expect(page.locator(".next")).toContainText(/(Four|Five|Six|Seven) ways to what was asked for/);
  await expect(page.locator(".future")).toHaveCount(4);
  const best = page.locator(".future").first();
  await expect(best.getByRole("img")).toHaveAttribute("aria-label", /nothing is lost/);
  await picture(page, "futures");
  await sound(page);
  await best.getByRole("button", { name: /^Take this/ }).focus();
  await page.keyboard.press("Enter");
  // What is missing is next, and can be given there; after each act the next one stands there.
  const next = page.locator(".next");
  await expect(next).toContainText("1 backup and 1 reason are missing");
  await expect(page.locator(".future")).toHaveCount(0);
  await next.getByRole("button", { name: "Back up now" }).click();
  await expect(next).toContainText("1 reason is missing", { timeout: 60_000 });
  await page.getByRole("link", { name: "Safeguard" }).first().click();
  await expect(page.locator(".rail [aria-current]")).toHaveText(/Safeguard/);
  await expect(next).toContainText("1 reason is missing");
  await page.goto("/jobs/J-1042");
  await next.getByLabel(/Reason for deleting Recovery/).fill("the PC's own copy is parked");
  await next.getByRole("button", { name: "Give the reason" }).click();
  await expect(next).toContainText("All that the plan needs is there");
  await next.getByRole("link", { name: "Carry it out" }).click();
  await expect(page.getByLabel(/Serial check/)).toBeVisible();
  for (let left = await page.locator(".steps li").count(); left > 0; left--) {
    await page.getByRole("button", { name: new RegExp(`Take out step ${left},`) }).click();
    await expect(page.locator(".steps li")).toHaveCount(left - 1);
  }
  await expect(next).toContainText("ways to what was asked for");
});

test("steps that one can do are joined", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto("/jobs/J-1042?p=6");
  const grow = page.locator('.part:not([hidden]) [data-deed="grow"]').first();
  for (const [n, by] of [
    [1, "1 GiB"],
    [2, "2 GiB"],
  ]) {
    await grow.getByLabel("Gains").fill(by);
    await grow.getByRole("button", { name: "Add step" }).click();
    await expect(page.locator(".steps li")).toHaveCount(n);
  }
  await expect(page.locator(".improve")).toContainText("1 step fewer would lead to the same drive");
  await sound(page);
  await page.getByRole("button", { name: "Join them" }).click();
  await expect(page.locator(".steps li")).toHaveCount(1);
  await expect(page.locator(".improve")).toHaveCount(0);
  await expect(block(page, "OEM, 17.2 GiB", "Grow OEM")).toBeVisible();
  await page.getByRole("button", { name: /Take out step 1,/ }).click();
  await expect(page.locator(".steps li")).toHaveCount(0);
});

test("every kind of goal is answered, with wishes", async ({ page }) => {
  await signIn(page, "odile");
  const ask = async (job, kind, fill = {}) => {
    await page.goto(`/jobs/${job}`);
    await page.keyboard.press("g");
    await page.locator("#goal").selectOption(kind);
    for (const [name, value] of Object.entries(fill)) {
      const field = page.locator(`.wish [name="${name}"]:visible`).first();
      if (value === true)
        await page
          .locator(`.wish label:has([name="${name}"])`, { hasText: fill[`${name}s`] })
          .locator("input")
          .check();
      else if (!name.endsWith("s") || name === "parts")
        await ((await field.evaluate((e) => e.tagName)) === "SELECT" ? field.selectOption(value) : field.fill(value));
    }
    await page.getByRole("button", { name: "Work out routes" }).click();
    await page.waitForURL(/goal=/);
  };
  const titles = () => page.locator(".routes tbody strong").allInnerTexts();
  await ask("J-1046", "combine", { receiver: "6", from: "7" });
  expect((await titles()).join("|")).toContain("ack up, delete and put back F: Old backup");
  expect(await titles()).toContainEqual(expect.stringContaining("Absorb F: Old backup into E: Recipes"));
  await ask("J-1046", "gain", { receiver: "1", gain: "200 GiB" });
  expect((await titles())[0]).toMatch(
    /Slide F: Old backup, E: Recipes and D: Orders; grow the container; shrink the container/,
  );
  await ask("J-1044?bay=E", "clear");
  expect(await titles()).toHaveLength(2);
  await ask("J-1043", "elsewhere");
  expect((await titles()).length).toBeGreaterThan(1);
  await ask("J-1043", "without");
  expect((await titles()).join("|")).toContain("stays as a copy");
  await ask("J-1043", "remove", { gones: "D: Old system", gone: true, gives: "C: System", give: true });
  expect((await titles()).length).toBeGreaterThan(1);
  await ask("J-1042", "split", { receiver: "5", parts: "40 GiB + 20 GiB" });
  expect((await titles())[0]).toContain("X: X-rays gives 60 GiB");
  await ask("J-1042", "room", { size: "150 GiB" });
  expect((await titles()).length).toBeGreaterThan(0);
  // Only the named one gives; what is to stay stays.
  await page.goto("/jobs/J-1042");
  await page.keyboard.press("g");
  await page.locator("#gain").fill("20 GiB");
  await page.getByText("Wishes").click();
  await page.getByRole("group", { name: "Stay in any case:" }).getByLabel("X: X-rays").check();
  await page.getByRole("group", { name: "Only these may give room:" }).getByLabel("X: X-rays").check();
  await page.getByRole("button", { name: "Work out routes" }).click();
  await page.waitForURL(/giver=5/);
  // What a plan carried out before has left free beside C: counts towards the 20 GiB.
  expect((await titles()).join("|")).toMatch(/X: X-rays gives (19\.\d|20) GiB/);
  expect((await titles()).join("|")).not.toContain("ack up, delete and put back");
  // A wish that leaves no route says so.
  await page.goto("/jobs/J-1042");
  await page.keyboard.press("g");
  await page.locator("#gain").fill("66 GiB");
  await page.getByText("Wishes").click();
  await page.getByLabel("Rewrite at most").fill("1 GiB");
  await page.getByLabel("no second drive at hand").check();
  await page.getByRole("button", { name: "Work out routes" }).click();
  await expect(page.locator(".goal")).toContainText("more than the 1 GiB that may be");
  await sound(page);
});

test("a route is carried out: what stands in the way is moved, and nothing is lost", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto("/jobs/J-1044?bay=E");
  await expect(block(page, "E: Lending")).toContainText("180 GiB");
  await page.keyboard.press("g");
  await page.locator("#goal").selectOption("gain");
  await page.getByLabel("Which volume").selectOption({ label: "E: Lending" });
  await page.locator("#gain").fill("12 GiB");
  await page.getByRole("button", { name: "Work out routes" }).click();
  await page.waitForURL(/goal=/);
  // Which one is the best hangs on what the tests before left on the drive.
  const first = page.locator(".routes tbody tr").first();
  await expect(first.locator("strong")).toContainText(/gives|Slide/);
  await expect(first).toContainText("nothing is lost");
  await expect(first).not.toContainText("plan only");
  await first.getByRole("button", { name: "Take" }).click();
  await expect(step(page, "Grow E: Lending")).toBeVisible();
  await page.getByRole("button", { name: "Rehearse on a copy" }).click();
  await expect(page.getByText(/Rehearsed on a throw-away copy: all \d steps lead where the plan says/)).toBeVisible();
  await page.getByLabel(/Serial check/).fill("04D7C"); // another drive looks like this one
  await page.getByRole("button", { name: "Carry out", exact: true }).click();
  await expect(page.getByText("Carried out and read back: the drive is as planned.")).toBeVisible();
  await page.goto("/jobs/J-1044?bay=E");
  await expect(page.locator(".stages")).toContainText("marked good");
  await expect(block(page, "E: Lending")).toContainText("192 GiB");
  await sound(page);
});
