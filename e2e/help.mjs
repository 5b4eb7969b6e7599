export { everyPage } from "./pages.mjs";
import { AxeBuilder } from "@axe-core/playwright";
import { expect } from "@playwright/test";

export async function signIn(page, login = "ines") {
  await page.goto("/sign-in");
  await page.getByLabel("Name", { exact: true }).fill(login);
  await page.getByLabel("Password", { exact: true }).fill(`lantern-${login}`);
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("heading", { name: /on the bench/ })).toBeVisible();
}

// sound says that axe finds nothing on the page.
export async function sound(page) {
  const found = await new AxeBuilder({ page })
    .withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"])
    .analyze();
  expect(found.violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.target.join(" ")).join(", ")}`)).toEqual([]);
}

// picture keeps a screenshot for docs/screenshots when asked for.
export async function picture(page, name) {
  if (process.env.JADETRAIL_PICTURES) await page.screenshot({ path: `${process.env.JADETRAIL_PICTURES}/${name}.png` });
}

// block is a partition on the map, in the column with the given heading.
export const block = (page, what, column = "Now") =>
  page.getByRole("button", { name: new RegExp(`^${what}, .*in ${column}`) });

export const step = (page, title) => page.locator(".steps li", { hasText: title });

// reach presses a key, Tab unless told otherwise, until the element has the focus.
export async function reach(page, target, key = "Tab") {
  for (let i = 0; i < 200; i++) {
    if (await target.evaluate((e) => e === document.activeElement).catch(() => false)) return;
    await page.keyboard.press(key);
  }
  throw new Error("it cannot be reached by keyboard");
}
