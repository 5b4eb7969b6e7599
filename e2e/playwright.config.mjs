import { defineConfig } from "@playwright/test";

// The browser comes from Debian's packages; the program is the real one, which every file of tests starts for itself
// (shop.mjs). What a failed test did can be gone through afterwards: playwright show-trace e2e/.run/results/*/trace.zip.
// How long is waited is for a slow disk on a bad day; nothing is measured by it.
// With JADETRAIL_TRACE=whole also how the page was at each act, which makes the tests a quarter slower.
export default defineConfig({
  testDir: ".",
  outputDir: ".run/results",
  workers: 2,
  timeout: 480_000,
  expect: { timeout: 60_000 },
  reporter: [["list"]],
  use: {
    trace: { mode: "retain-on-failure", screenshots: false, snapshots: process.env.JADETRAIL_TRACE === "whole" },
    viewport: { width: 1280, height: 800 },
    actionTimeout: 90_000,
    launchOptions: {
      executablePath: "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
      ],
    },
  },
});
