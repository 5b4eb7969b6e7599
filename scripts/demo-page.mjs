// Opens the demo's pages for a script that looks at them: JADETRAIL_URL is where they are.
import { chromium } from "@playwright/test";
import config from "../e2e/playwright.config.mjs";

export const base = process.env.JADETRAIL_URL;

// openDemo is a page with somebody signed in, on the bench.
export async function openDemo(login) {
  const browser = await chromium.launch(config.use.launchOptions);
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  await page.goto(`${base}/sign-in`);
  await page.getByLabel("Name", { exact: true }).fill(login);
  await page.getByLabel("Password", { exact: true }).fill(`lantern-${login}`);
  await page.getByRole("button", { name: "Sign in" }).click();
  await page.waitForURL(`${base}/`);
  return page;
}
