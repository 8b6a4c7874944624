// The server cannot be reached: a page of the application says so, and goes on by itself when it is back.
import assert from "node:assert/strict";
import net from "node:net";
import { base, launch, signIn } from "./browser.mjs";

// A line to the server that can be cut: the worker's own requests go through it, too.
const { port } = new URL(base);
const open = new Set();
let cut = false;
const line = net.createServer((from) => {
  if (cut) return from.destroy();
  const to = net.connect(Number(port), "127.0.0.1");
  for (const end of [from, to]) {
    open.add(end);
    end.on("error", () => {}).on("close", () => { open.delete(end); from.destroy(); to.destroy(); });
  }
  from.pipe(to).pipe(from);
});
await new Promise((ready) => line.listen(0, "127.0.0.1", ready));
const here = `http://127.0.0.1:${line.address().port}`;
const stop = () => { cut = true; for (const end of open) end.destroy(); };

const browser = await launch();
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto(`${here}/sign-in`);
await page.fill("#name", "aino");
await page.fill("#password", "kapea-silta-4");
await Promise.all([page.waitForURL(`${here}/`), page.press("#password", "Enter")]);
await page.evaluate(() => navigator.serviceWorker.ready);
await page.waitForFunction(() => navigator.serviceWorker.controller !== null);

stop();
await page.goto(`${here}/charts`);
assert.equal(await page.locator("h1").innerText(), "The server cannot be reached from here");
assert.equal(page.url(), `${here}/charts`, "the address is the one that was wanted");
assert.equal(await page.evaluate(() => getComputedStyle(document.querySelector(".top")).display), "flex", "with its look");
cut = false;
await page.locator("[data-again]").click();
await page.waitForFunction(() => document.querySelector("h1")?.innerText !== "The server cannot be reached from here");
assert.equal(page.url(), `${here}/charts`);
// Nothing that a person saw lies in the worker's store.
const kept = await page.evaluate(async () => {
  const found = [];
  for (const name of await caches.keys()) for (const request of await (await caches.open(name)).keys()) found.push(new URL(request.url).pathname);
  return found;
});
assert.ok(kept.length > 3 && kept.every((path) => path === "/offline" || path.startsWith("/assets/")), kept.join(" "));
await browser.close();
line.close();
