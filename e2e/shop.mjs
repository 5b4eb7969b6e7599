import { execFileSync, spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { test as plain } from "@playwright/test";

export { expect } from "@playwright/test";

// test gives every file of tests a shop of its own, with a database and the demo's drives as they are at first. A
// file says which it is with test.use({ of: "name" }); its tests go on from each other, and from no other file's. With
// test.use({ of: "name", empty: true }) it is a shop on its first day instead: nobody is there yet.
export const test = plain.extend({
  of: ["", { scope: "worker", option: true }],
  empty: [false, { scope: "worker", option: true }],
  shop: [
    async ({ of, empty }, use, worker) => {
      const data = mkdtempSync(join(process.env.JADETRAIL_SHOPS, `${of}-`));
      if (empty) mkdirSync(join(data, "mariadb"));
      else execFileSync("cp", ["-a", "--sparse=always", `${process.env.JADETRAIL_SHOPS}/first/.`, data]);
      writeFileSync(join(data, "mariadb", "port"), `${33_100 + worker.workerIndex}`); // where it begins to look for a free one
      const [program, ...what] = empty
        ? ["scripts/run.sh", data]
        : ["scripts/with-db.sh", data, "scripts/serve-demo.sh"];
      const server = spawn(program, what, {
        env: { ...process.env, JADETRAIL_DATA: data, JADETRAIL_ADDR: "127.0.0.1:0", JADETRAIL_LOG: "error" },
        stdio: ["ignore", "pipe", "inherit"],
      });
      const ended = new Promise((over) => server.once("exit", over));
      const [url, code] = await Promise.race([
        new Promise((found) => {
          let said = "";
          server.stdout.on("data", (more) => {
            const at = /Jade Trail is at (\S+)/.exec((said += more)),
              first = /with the code (\S+)/.exec(said);
            if (at && (first || !empty)) found([at[1], first?.[1]]);
          });
        }),
        ended.then((code) => {
          throw new Error(`the program did not start: ${code}`);
        }),
      ]);
      await use({ url, data, code });
      server.kill();
      await ended;
      rmSync(data, { recursive: true });
    },
    { scope: "worker", timeout: 120_000 },
  ],
  baseURL: async ({ shop }, use) => use(shop.url),
});
