// How much is asked of a hand between the door and the verdict: actions (Enter, or a click) and pages loaded.
import assert from "node:assert/strict";
import { base, launch } from "./browser.mjs";

const browser = await launch();
const room = await browser.newContext({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block" });
const page = await room.newPage();
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
let loads = 0;
page.on("load", () => { loads += 1; });
let actions = 0;
const enter = async () => {
  actions += 1;
  await page.keyboard.press("Enter");
};
const step = async () => {
  await Promise.all([page.waitForNavigation(), enter()]);
};

await page.goto(`${base}/sign-in`);
loads = 0;
await page.fill("#name", "aino");
await page.fill("#password", "kapea-silta-4");
await page.focus("#password");
await step();
// The tank scale of the first row that has one: by the keys of the round.
for (let n = 0; n < 20 && !(await page.locator("tr.chosen").innerText()).includes("R-02"); n += 1) await page.keyboard.press("ArrowDown");
await page.locator("tr.chosen .do button").focus();
await step();
assert.equal(loads, 2, "the round and the check");

const readings = ["0.000", "5.003", "10.007", "20.016", "20.016", "20.015", "10.008", "10.007", "0.000"];
const begun = actions;
let lines = 0;
let read = 0;
let first;
for (let n = 0; n < 30 && !page.url().endsWith("/verdict"); n += 1) {
  const boxes = await page.locator(".ticks input").count();
  if (boxes > 0) {
    await page.waitForFunction(() => document.activeElement?.type === "checkbox");
    // One key a line; the last one goes on.
    for (let k = 1; k < boxes; k += 1) await enter();
    lines += boxes;
  } else if ((await page.locator("#typed").count()) > 0) {
    await page.waitForFunction(() => document.activeElement?.id === "typed");
    const tag = (await page.locator("form.entry.tag").count()) > 0;
    if (!tag) first ??= actions + 1 - lines;
    await page.keyboard.type(tag ? "m1-b" : readings[read++]);
  } else {
    await page.waitForFunction(() => document.activeElement?.tagName === "BUTTON");
  }
  await step();
  // What a reader of the screen hears is the step that has come.
  if (!page.url().endsWith("/verdict")) {
    const said = await page.locator("body > [role=status].visually-hidden").innerText();
    assert.equal(said.trim(), (await page.locator("main h1").innerText()).trim());
  }
}
assert.equal(read, readings.length);
assert.match(await page.locator("h1").innerText(), /Within tolerance/);
// Between the first step and the verdict no page was loaded.
assert.equal(loads, 3, `${loads} pages were loaded`);
// The sign-in, the start, the tag, and each line that is ticked: nothing else before the first reading.
assert.equal(first, 4, `${first} actions besides the ticked lines before the first reading`);
// One action a reading, a line, the tag, the look over everything.
assert.equal(actions - begun, readings.length + lines + 2);
console.log(`${actions} actions, ${lines} of them ticked lines, for ${readings.length} readings; ${loads} pages loaded`);

// Back in the browser leads over the check to the round, not through every step.
await page.goBack();
await page.goBack();
assert.equal(new URL(page.url()).pathname, "/");

// The server keeps an entry and is gone before it shows the next step: where that is drawn here the way goes on, where it
// needs the server the page says so, and comes back by itself.
const row = page.locator("table.round tr", { hasText: "R-05" });
await Promise.all([page.waitForNavigation(), row.locator(".do button").click()]);
const check = new URL(page.url()).pathname;
const keepOnly = async (route) => (route.request().method() === "POST" ? route.continue() : route.abort());
const reach = (route) => route.abort();
const lose = async () => {
  await page.route((url) => url.pathname.startsWith(check), keepOnly);
  await page.route("**/health", reach);
};
const find = () => page.unrouteAll();
await lose();
for (const box of await page.locator(".ticks input").all()) await box.check();
await page.locator("form.entry .main-button").click();
await page.waitForFunction(() => document.querySelector("h1")?.innerText === "Kept");
assert.match(await page.locator(".step .detail").innerText(), /The next step needs the server/);
assert.equal(await page.locator("[data-held-list] li").count(), 0, "nothing is held: the server has it");
await find();
await page.waitForFunction(() => document.querySelector("h1")?.innerText.includes("weight set"), null, { timeout: 20000 });
await page.fill("#typed", "F2-A");
await step();
for (const box of await page.locator(".ticks input").all()) await box.check();
await Promise.all([page.waitForNavigation(), page.locator("form.entry .main-button").click()]);
await lose();
await page.fill("#typed", "0.0");
await page.press("#typed", "Enter");
await page.waitForFunction(() => /Put 1000 g/.test(document.querySelector("h1")?.innerText));
// What is typed here meanwhile is kept on the device, and goes out when the server is back.
await page.fill("#typed", "1000.0");
await find();
await page.press("#typed", "Enter");
await page.waitForFunction(() => /Put 2000 g/.test(document.querySelector("h1")?.innerText), null, { timeout: 20000 });
await page.waitForFunction(() => localStorage.getItem("vaaka.held") === "[]", null, { timeout: 20000 });
// Looked at in a page of its own: this one is on its way back to the server by itself.
const other = await room.newPage();
await other.goto(base + check);
assert.match(await other.locator("h1").innerText(), /Put 2000 g/);
assert.equal(await other.locator(".kept tbody tr").filter({ hasText: "1000 g" }).count(), 1);
assert.deepEqual(faults, []);
await browser.close();
