import { defineConfig } from "@playwright/test";

// The browser comes from Debian's packages; the program is the real one, started
// by the test command with a private database and fresh demo drives.
export default defineConfig({
  testDir: ".",
  outputDir: ".run/results",
  workers: 1,
  timeout: 240_000,
  expect: { timeout: 15_000 },
  reporter: [["list"]],
  use: {
    baseURL: process.env.JADETRAIL_URL,
    viewport: { width: 1280, height: 800 },
    actionTimeout: 30_000,
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
