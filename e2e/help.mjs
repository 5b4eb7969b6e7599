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

// everyPage is one of each kind of page.
export const everyPage = [
  "/",
  "/dock",
  "/jobs/J-1042?p=3",
  "/jobs/J-1042?p=6",
  "/jobs/J-1046?p=6",
  "/jobs/J-1047/pc",
  "/jobs/J-1042/inside?p=5",
  "/jobs/J-1042/holds?p=5",
  "/jobs/J-1042/compare?p=5",
  "/jobs/J-1042/safeguard",
  "/jobs/J-1042/confirm",
  "/jobs/J-1042/hand-over",
  "/jobs/J-1045/search",
  "/shelf",
  "/trail",
];
