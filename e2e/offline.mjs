// The network goes in the middle of a check: entries are kept on the device, marked so, and sent
// when it is back; the browser is closed meanwhile, and a colleague takes over elsewhere.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const refusal = (on) => on.locator("form.entry .field-error");

const browser = await launch();
const bench = await browser.newContext({ viewport: { width: 1280, height: 800 } });
let page = await bench.newPage();
await signIn(page);

async function start(on, tag) {
  await on.goto(base);
  const row = on.locator("table.round tr", { hasText: tag });
  await Promise.all([on.waitForNavigation(), row.locator(".do button, .do a").first().click()]);
}
const heading = (on) => on.locator("h1").first().innerText();
const left = async (on, words) => on.waitForFunction((words) => document.querySelector("h1")?.innerText !== words, words);
/** Types into the field and presses Enter; the next step may come with or without the server. */
async function type(on, text) {
  const words = await on.locator(".step").innerText();
  await on.fill("#typed", text);
  await on.press("#typed", "Enter");
  await on.waitForFunction((words) => document.querySelector(".step")?.innerText !== words, words);
}
async function tickAll(on) {
  const words = await heading(on);
  for (const box of await on.locator(".ticks input").all()) await box.check();
  await on.locator("form.entry .main-button").click();
  await left(on, words);
}

await start(page, "R-02");
const path = new URL(page.url()).pathname;
await tickAll(page);
await type(page, "M1-B");
await tickAll(page);
await type(page, "0.000");
assert.match(await heading(page), /Put 5 kg/);

// Gone. What is typed stays, marked so, and the next step is there.
// The step that was open asks what the steps drawn ahead ask: a far value, one between two steps, none at all.
await bench.setOffline(true);
const refused = async (text, words) => {
  await page.fill("#typed", text);
  await page.press("#typed", "Enter");
  await page.waitForFunction((source) => new RegExp(source).test(document.querySelector("form.entry .field-error")?.innerText ?? ""), words.source);
  assert.equal(await page.locator("[data-held-list] li").count(), 0, "nothing is kept yet");
};
await refused("50.01", /Is the 5 kg on the pan.* 50\.01 was typed/);
await refused("5.0005", /moves in steps of 0\.001 kg/);
await refused("", /Nothing is typed yet/);
await refused("5.0.1", /more than one comma or point/);
// Enter once more keeps the value that was asked about, and no other.
await refused("60", /60 was typed/);
await refused("61", /61 was typed/);
await type(page, "5.001");
assert.match(await heading(page), /Put 10 kg/);
// A link, Esc and a form beside the step leave the page as it is.
await page.keyboard.press("Escape");
await page.waitForFunction(() => /The network is gone/.test(document.querySelector("[data-held-note]").innerText));
await page.locator(".keys a", { hasText: "Leave for now" }).click();
await page.keyboard.press("F8");
await page.selectOption("#void-reason", { index: 1 });
await page.locator("[data-void] form button").click();
assert.match(await heading(page), /Put 10 kg/);
assert.match(await page.locator("[data-held]").innerText(), /Kept on this device, not sent yet\s+.*5\.001/s);
// Far from the load it asks, as the server would.
await page.fill("#typed", "1.001");
await page.press("#typed", "Enter");
assert.match(await refusal(page).innerText(), /Is the 10 kg on the pan/);
await page.fill("#typed", "10,001");
await page.press("#typed", "Enter");
await page.waitForFunction(() => /Put 20 kg/.test(document.querySelector("h1").innerText));
for (const text of ["20.002", "20.001"]) await type(page, text);
assert.equal(await page.locator("[data-held-list] li").count(), 4);
assert.match(await page.locator("[data-held-note]").innerText(), /4 entries are kept on this device/);

// The browser is closed; when it comes back with the network, they go out by themselves.
await page.close();
await bench.setOffline(false);
page = await bench.newPage();
await page.goto(base);
await page.waitForFunction(() => localStorage.getItem("vaaka.held") === "[]");
await page.goto(base + path);
assert.match(await heading(page), /Put 20 kg/);
assert.equal(await page.locator("form.entry input[name=repeat]").inputValue(), "3");
assert.equal(await page.locator(".kept tbody tr").filter({ hasText: "20 kg" }).count(), 2);

// Gone again, and a colleague goes on at another device: the server rules on what arrives.
await bench.setOffline(true);
await type(page, "20.003");
await type(page, "10.002");
const other = await browser.newContext({ viewport: { width: 1280, height: 800 } });
const teemu = await other.newPage();
await signIn(teemu, "teemu", "kuiva-kivi-7");
await start(teemu, "R-02");
assert.equal(await heading(teemu), "Aino Verkala has this check in hand");
await teemu.locator(".step .main-button").click();
await left(teemu, "Aino Verkala has this check in hand");
await type(teemu, "20.004");
await bench.setOffline(false);
// What is refused is told, and what follows it is still there, to be looked at one by one.
const notTaken = (on, words) => on.waitForFunction((source) => new RegExp(source, "s").test(document.querySelector("[data-held-refused]")?.innerText ?? ""), words.source, { timeout: 20000 });
await notTaken(page, /Not taken: 20 kg, 3: 20\.003\. .*somebody else has this check in hand/);
await page.waitForFunction(() => document.querySelectorAll("[data-held-list] li").length === 2);
await page.locator("[data-held-drop]").click();
await notTaken(page, /Not taken: 10 kg.*10\.002\. .*somebody else has this check in hand/);
await page.locator("[data-held-drop]").click();
await page.waitForFunction(() => localStorage.getItem("vaaka.held") === "[]");
await page.waitForFunction(() => document.querySelector("h1")?.innerText === "Teemu Ronsala has this check in hand");

// To the end on the other device; both names stand on the verdict.
for (const text of ["10.001", "10.001", "0.000"]) await type(teemu, text);
assert.equal(await heading(teemu), "Look over what was kept");
await teemu.locator("form.entry .main-button").click();
await left(teemu, "Look over what was kept");
await tickAll(teemu);
await teemu.waitForURL(/\/verdict$/);
assert.match(await teemu.locator("dl.facts").innerText(), /Aino Verkala, then Teemu Ronsala/);
// What was typed first is on record in its order, and so is what was given up: read, not taken, and why.
await teemu.goto(`${base}${path}/record`);
const attempts = (await teemu.locator("table.attempts tbody tr").allInnerTexts()).map((row) => row.split("\t"));
assert.deepEqual(attempts.map((row) => row[2]), ["50.01", "60", "61", "1.001", "20.003", "10.002"], JSON.stringify(attempts));
assert.match(attempts[4][3], /somebody else has this check in hand/);
await browser.close();
