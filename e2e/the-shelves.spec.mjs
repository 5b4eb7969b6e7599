import { signIn, sound } from "./help.mjs";
import { expect, test } from "./shop.mjs";

test.use({ of: "the-shelves" });

const bay = (page, letter) =>
  page.locator("tbody tr", { has: page.locator("td:first-child strong", { hasText: new RegExp(`^${letter}$`) }) });
const place = (page, title) => page.locator(".places li", { hasText: title });

test("a second shelf is made of a blank drive, used, taken away and brought again", async ({ page }) => {
  await signIn(page, "tobias");
  await page.goto("/dock");
  const blank = page.locator("form[action='/dock/blank']");
  await blank.getByLabel("Size").fill("40 GB");
  await blank.getByLabel("Model").fill("40 GB stick");
  await blank.getByLabel("Serial number").fill("VLT1-004-77Q2");
  const at = await blank.getByLabel("Bay").inputValue(); // the first that is free
  await blank.getByRole("button", { name: "Make the drive" }).click();
  await expect(bay(page, at)).toContainText("40 GB stick");
  await sound(page);
  // A label that could be taken for the other shelf's is refused.
  await bay(page, at).getByLabel("Label of the shelf").fill("she-1f");
  await bay(page, at).getByRole("button", { name: "Make it a shelf" }).click();
  await expect(page.getByText("the two could be confused")).toBeVisible();
  await bay(page, at).getByLabel("Label of the shelf").fill("Vault");
  await bay(page, at).getByRole("button", { name: "Make it a shelf" }).click();
  await expect(page.getByText(`The drive in bay ${at} is a shelf`)).toBeVisible();

  await page.goto("/shelf");
  await expect(place(page, "Bay B, Shelf (…0B42)")).toContainText("new backups go here");
  await place(page, `Bay ${at}, Vault (…77Q2)`).getByRole("button", { name: "New backups here" }).click();
  await expect(place(page, `Bay ${at}, Vault (…77Q2)`)).toContainText("new backups go here");
  await sound(page);
  await page.goto("/jobs/J-1047?p=1");
  await page.locator(".part:not([hidden])").getByRole("button", { name: "by its files" }).click();
  await expect(page.locator("#work")).toContainText(`on the shelf, Bay ${at}, Vault`, { timeout: 60_000 });
  await page.goto("/shelf?job=J-1047");
  await expect(page.locator("tbody tr")).toContainText(`Bay ${at}, Vault (…77Q2)`);
  await page.locator("tbody a").first().click();
  await page.getByRole("button", { name: "Verify again" }).click();
  await expect(page.locator("#work")).toContainText(/whole|verified/i);

  // What lies on it goes and comes with its drive.
  await page.goto("/dock");
  await bay(page, at).getByRole("button", { name: "Stop using as shelf" }).click();
  await expect(page.getByText(`a backup lies on the drive in bay ${at}; it stays a shelf`)).toBeVisible();
  await bay(page, at).getByRole("button", { name: "Detach" }).click();
  await expect(page.getByText(`Bay ${at} is empty.`)).toBeVisible();
  await page.goto("/shelf");
  await expect(place(page, "Vault")).toHaveCount(0);
  await expect(page.locator("tbody")).not.toContainText("Vault");
  await page.goto("/dock");
  const docked = page.locator(".docked li", { hasText: "vlt1-004-77q2" });
  await docked.getByLabel("Bay").selectOption(at);
  await docked.getByRole("button", { name: "Attach" }).click();
  await expect(bay(page, at)).toContainText("shelf");
  await expect(page.locator("#work")).toHaveAttribute("data-busy", "false");
  await page.goto("/shelf");
  await expect(page.locator("tbody")).toContainText(`Bay ${at}, Vault (…77Q2)`);
  // What was done to it while it was out nobody knows, until it is read again.
  const away = page.locator("tbody tr", { hasText: "Vault" });
  await expect(away).toContainText("its shelf has left its bay since it was verified");
  await away.locator("a").first().click();
  await page.getByRole("button", { name: "Verify again" }).click();
  await expect(page.locator("#work")).toContainText(/is whole/, { timeout: 60_000 });
  await page.goto("/shelf");
  await expect(away).toContainText("verified");
  await expect(away).not.toContainText("has left its bay");
  await page.goto("/trail");
  await expect(page.locator("tbody")).toContainText("backups are on it, so it is a shelf");
  // The other bay is left as other tests expect it.
  await page.goto("/shelf");
  await page.locator("tbody tr", { hasText: "Vault" }).locator("a").first().click();
  await page.getByText("Delete this backup").click();
  await page.getByRole("button", { name: "Delete the backup" }).click();
  await expect(page.getByText("The backup was deleted.")).toBeVisible();
  await page.goto("/dock");
  await bay(page, at).getByRole("button", { name: "Stop using as shelf" }).click();
  await bay(page, at).getByRole("button", { name: "Detach" }).click();
  await expect(page.getByText(`Bay ${at} is empty.`)).toBeVisible();
});
