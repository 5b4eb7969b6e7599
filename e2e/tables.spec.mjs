import { block, signIn, sound, step } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "tables" });

test.describe.configure({ mode: "serial" });

const job = "/jobs/J-1047?bay=I";

test("a blank drive becomes a card that can be used", async ({ page }) => {
  await signIn(page, "odile");
  await page.request.post("/dock/blank", {
    form: { bay: "I", model: "Quayline 64", serial: "BLANK-0001", size: "200 MiB", job: "J-1047" },
  });
  await page.goto(job);
  // What comes first is said, and leads on.
  const panel = page.locator(".part:not([hidden])");
  await expect(panel.getByRole("heading", { name: "Make a table" })).toBeVisible();
  await expect(panel).toContainText("Proposed is a GPT: nothing on it speaks for the old kind.");
  await sound(page);
  await panel.getByLabel("Kind of table").selectOption("mbr");
  await panel.getByRole("button", { name: "Add step: make a table" }).click();
  await expect(step(page, "Make a table")).toBeVisible();
  await page.getByRole("textbox", { name: /Serial check/ }).fill("0001");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await page.goto(job);
  const room = page.locator(".part:not([hidden])");
  await room.getByLabel("Size").fill("all");
  await room.getByLabel("Label").fill("Card");
  await room.getByRole("button", { name: "Add step: create" }).click();
  await expect(step(page, "Create Card")).toBeVisible();
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await expect(block(page, "Card, 199 MiB")).toBeVisible();
  await expect(page.locator(".facts")).toContainText("mbr");
});

test("a drive whose table is gone gets it back, with what was in it", async ({ page }) => {
  await signIn(page, "odile");
  await page.goto(job);
  await page.request.post("/jobs/J-1047/steps?bay=I", {
    form: { do: "clear", scheme: "none", waiver: "to be brought back", release: "to be brought back" },
  });
  await page.goto(job);
  await page.getByRole("textbox", { name: /Serial check/ }).fill("0001");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await page.goto("/jobs/J-1047/search?bay=I");
  await expect(page.getByRole("row", { name: /Card/ })).toContainText("sure");
  await expect(page.getByText("into a table that is made for it")).toBeVisible();
  await sound(page);
  await page.getByRole("button", { name: "Plan to bring it back" }).click();
  await expect(step(page, "Make a table")).toBeVisible();
  await expect(step(page, "Bring back Card")).toBeVisible();
  await sound(page);
  await page.getByRole("textbox", { name: /Serial check/ }).fill("0001");
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await expect(block(page, "Card, 199 MiB")).toBeVisible();
});

test("what something else lies in place of comes back damaged, with a reason", async ({ page }) => {
  await signIn(page, "odile");
  const carried = async (form) => {
    await page.request.post("/jobs/J-1047/steps?bay=I", { form });
    await page.goto(job);
    const serial = page.getByRole("textbox", { name: /Serial check/ });
    if (await serial.count()) await serial.fill("0001");
    await page.getByRole("button", { name: "Carry out" }).click();
    await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  };
  await carried({ do: "delete", partition: "1", waiver: "to be brought back" });
  await carried({ do: "create", start: "4096", size: "20 MiB", type: "basic", format: "ntfs", label: "Other" });
  await carried({ do: "delete", partition: "1", waiver: "it was in the way" });
  await page.goto("/trail?act=delete&job=J-1047&text=Card");
  await page.getByRole("link", { name: "record" }).first().click();
  await expect(page.getByText(/taken by something else/).first()).toBeVisible();
  await sound(page);
  await page.request.post(`${new URL(page.url()).pathname}/bring-back`);
  await page.goto(job);
  await expect(step(page, "Bring back Card")).toBeVisible();
  await expect(page.getByRole("button", { name: "Carry out" })).toHaveCount(0);
  await page.goto("/jobs/J-1047/safeguard?bay=I");
  await expect(page.getByRole("heading", { name: "What comes back damaged" })).toBeVisible();
  await sound(page);
  await page.getByLabel("Why does it come back damaged?").fill("The rest of it is wanted");
  await page.getByRole("button", { name: "Give the reason" }).click();
  await expect(page.getByText("The rest of it is wanted").first()).toBeVisible();
  await page.goto(job);
  await page.getByRole("button", { name: "Carry out" }).click();
  await expect(page.locator("#work")).toContainText("the drive is as planned", { timeout: 60_000 });
  await page.goto("/trail?act=bring-back&job=J-1047");
  await expect(page.locator("tbody tr").first()).toContainText("The rest of it is wanted");
  // The bay is left as other tests expect it.
  await page.goto("/dock");
  await page.locator("tbody tr", { hasText: "Quayline 64" }).getByRole("button", { name: "Detach" }).click();
  await expect(page.getByText("Bay I is empty.")).toBeVisible();
});
