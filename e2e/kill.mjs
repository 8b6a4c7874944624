// Phases around a kill of server and database: before, after, without (the database), finish.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const [, , phase, cookies, path] = process.argv;
const browser = await launch();
const context = await browser.newContext(phase === "before" ? {} : { storageState: cookies });
const page = await context.newPage();
const heading = () => page.locator("h1").innerText();
const send = async () => {
  await Promise.all([page.waitForNavigation(), page.click("form.entry .main-button")]);
};
const type = async (text) => {
  await page.fill("#typed", text);
  await send();
};
const tickAll = async () => {
  for (const box of await page.locator(".ticks input").all()) await box.check();
  await send();
};

if (phase === "before") {
  await signIn(page);
  const row = page.locator("table.round tr", { hasText: "R-09" });
  const tag = (await row.count()) && (await row.locator(".do button").count()) ? "R-09" : "R-02";
  await Promise.all([
    page.waitForNavigation(),
    page.locator("table.round tr", { hasText: tag }).locator(".do button").click(),
  ]);
  await tickAll();
  await type("M1-B");
  await tickAll();
  await type("0.000");
  await type("5.001");
  assert.match(await heading(), /Put 10 kg/);
  await context.storageState({ path: cookies });
  console.log(new URL(page.url()).pathname);
}
if (phase === "after") {
  // Still signed in, at the same step, with everything that was acknowledged.
  await page.goto(base + path);
  assert.match(await heading(), /Put 10 kg/);
  assert.equal(await page.locator(".way li.done").count(), 5);
  assert.match(await page.locator("aside").innerText(), /All kept so far: 2/);
  await type("10.002");
  assert.match(await heading(), /Put 20 kg/);
}
if (phase === "without") {
  await page.goto(base + path).catch(() => {});
  assert.match(await heading(), /The database is out of reach/);
  assert.match(await page.locator("main").innerText(), /What was kept before is safe/);
}
if (phase === "finish") {
  await page.goto(base + path);
  assert.match(await heading(), /Put 20 kg/);
  for (let n = 0; n < 9 && !page.url().endsWith("/verdict"); n += 1) {
    if ((await page.locator(".ticks input").count()) > 0) await tickAll();
    else if ((await page.locator("form.entry.review").count()) > 0) await send();
    else {
      const words = await heading();
      await type(/20 kg/.test(words) ? "20.003" : /10 kg/.test(words) ? "10.001" : "0.000");
    }
  }
  assert.match(page.url(), /\/verdict$/);
  assert.match(await heading(), /Within tolerance/);
}
await browser.close();
