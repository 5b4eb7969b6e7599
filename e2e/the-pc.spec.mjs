import { block, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-pc" });

const line = (page, name) => page.locator(".before tbody tr", { hasText: name });

test("the recovery environment is parked and rebuilt elsewhere; the old system leaves the start order", async ({
  page,
}) => {
  await signIn(page, "ines");
  await page.goto("/jobs/J-1043?p=5");
  const side = page.locator(".part:not([hidden])");
  await side.locator("[data-deed=note-identity]").getByRole("button").click();
  await expect(step(page, "Record the ids of Recovery")).toBeVisible();
  await side.getByLabel(/^Protected/).fill("It is rebuilt behind C:");
  await side.getByText("Go on without a backup").click();
  await side.getByLabel(/without a backup/).fill("It is parked");
  await side.getByRole("button", { name: "Add step: delete" }).click();

  // The gate says what goes with the partition, and offers to park it before.
  await page.getByRole("link", { name: "Safeguard" }).click();
  await expect(line(page, "Recovery environment")).toContainText("Keep a copy of it first, or the PC is without one.");
  await sound(page);
  await page.getByRole("button", { name: "Keep a copy first" }).click();
  await expect(line(page, "Recovery environment")).toContainText(
    "a copy is kept in the folder Parked recovery of C: System, partition 4, not in use",
  );
  await expect(line(page, "Recovery environment")).not.toContainText("the PC is without one");

  // A new place for it, and into use from there.
  await page.goto("/jobs/J-1043?p=4");
  await expect(page.locator(".steps li").nth(1)).toContainText("Keep a copy of recovery on C: System");
  await side.getByLabel("Gains").fill("100 GiB");
  await side.getByRole("button", { name: "Add step", exact: true }).first().click();
  await expect(step(page, "Grow C: System")).toBeVisible();
  await page.getByRole("button", { name: /^gap of 171.* in Grow C: System/ }).click();
  await side.getByLabel("Size").fill("1 GiB");
  await side.getByLabel("Label").fill("Recovery");
  await side.getByLabel("For").selectOption("recovery");
  await side.getByRole("button", { name: "Add step: create" }).click();
  await page.getByRole("link", { name: "Safeguard" }).click();
  await page.getByLabel("Use it again from").selectOption({ index: 0 });
  await line(page, "Recovery environment").getByRole("button", { name: "Add step" }).click();
  await expect(line(page, "Recovery environment")).toContainText(
    /in use from Recovery, partition 5.*in use from Recovery, which step 5 makes/s,
  );

  // Which system starts, and for how long the PC asks.
  await page.getByLabel("boot menu waits").fill("10");
  await line(page, "Start order").getByRole("button", { name: "Add step" }).click();
  await expect(line(page, "Start order")).toContainText("boot menu waits 10 s");
  await page.goto("/jobs/J-1043?p=4");
  await expect(side.locator("[data-deed=drop-start-entry]")).toContainText("Name another start system first");
  await page.goto("/jobs/J-1043?p=3");
  await side.locator("[data-deed=drop-start-entry]").getByRole("button").click();
  await expect(step(page, "Take D: Old system out of the start order")).toBeVisible();

  await page.getByLabel(/Serial check/).fill("1c8m");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 90_000 });
  await expect(page.getByRole("img", { name: /Good state marked: 4 volumes check sound/ })).toBeVisible();
  await expect(block(page, "Recovery")).toBeVisible();
  await page.goto("/jobs/J-1043/pc?bay=D");
  await expect(page.locator(".order li")).toHaveCount(1);
  await expect(page.getByText("The boot menu waits 10 s.")).toBeVisible();
  await expect(page.getByText("in use from Recovery, partition 5")).toBeVisible();
  await page.goto("/trail?job=J-1043");
  for (const act of [
    "ids recorded",
    "copy of recovery kept",
    "recovery in use",
    "start entry dropped",
    "start order",
    "marked good",
  ]) {
    await expect(page.locator("tbody .word", { hasText: act }).first()).toBeVisible();
  }
  await sound(page);
});

test("a running PC is shut down for the run, and started again", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto("/jobs/J-1047?p=3");
  const grow = page.locator(".part:not([hidden]) .deed[data-deed=grow]").first();
  await expect(grow).toContainText("The PC is running, and the running system holds it open.");
  await grow.getByRole("link", { name: "carry out around a restart" }).click();
  await sound(page);
  await page.getByRole("button", { name: "Plan around a restart" }).click();
  await expect(step(page, "Restart the PC")).toBeVisible();
  await page.goto("/jobs/J-1047?p=3");
  const amount = page.locator(".part:not([hidden]) .deed[data-deed=shrink]").first();
  await amount.getByLabel("Gives up").fill("2 GiB");
  await amount.getByRole("button", { name: "Add step" }).click();
  await expect(step(page, "Shrink C: System")).toBeVisible();
  await expect(page.locator("[data-part=price]")).toContainText(/restart\s*1/);
  await page.getByRole("button", { name: "Carry out", exact: true }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 90_000 });
  await page.goto("/jobs/J-1047/pc?bay=H");
  await expect(page.getByRole("heading", { name: /is running/ })).toBeVisible();
  await page.goto("/trail?job=J-1047");
  await expect(page.locator("tbody")).toContainText("The PC was started again, and reaches its drive in place");
  await expect(page.locator("tbody")).toContainText("Restart the PC: shut down before the steps that follow");
  await page.goto("/jobs/J-1047/confirm");
  await expect(page.locator("tbody")).toContainText("smaller by 2 GiB");
  await sound(page);
});
