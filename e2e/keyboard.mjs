// From the round to the verdict and the chart by keyboard alone, with a drifting scale.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const browser = await launch();
const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block" });
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
page.on("console", (message) => {
  if (message.type() === "error" && /Content Security Policy|Refused/.test(message.text())) faults.push(message.text());
});
const heading = () => page.locator("h1").innerText();
const press = async (key) => {
  const here = page.url();
  await page.keyboard.press(key);
  return here;
};
/** Presses a key that leads to another step or page, and waits for it. */
const go = async (key) => {
  await Promise.all([page.waitForNavigation(), page.keyboard.press(key)]);
};

await signIn(page);
assert.match(await heading(), /^Round of Tuesday night: \d+ of 11 to go/);
// Down until the tank scale is chosen, then Enter.
for (let n = 0; n < 8; n += 1) {
  if ((await page.locator("tr.chosen").innerText()).includes("R-02")) break;
  await press("ArrowDown");
}
assert.ok((await page.locator("tr.chosen").innerText()).includes("R-02"));
await page.locator("tr.chosen .do button").focus();
await go("Enter");

assert.equal(await heading(), "Before you lift anything");
const tickAll = async () => {
  const count = await page.locator(".ticks input").count();
  await page.waitForFunction(() => document.activeElement?.type === "checkbox");
  for (let n = 1; n < count; n += 1) await press("Enter");
  await go("Enter");
};
const type = async (text) => {
  await page.waitForFunction(() => document.activeElement?.id === "typed");
  await page.keyboard.type(text);
  await go("Enter");
};
await tickAll();
assert.match(await heading(), /weight set M1-B/);
await type("m1-b");
await tickAll();
await type("0,000");
// What is typed while the next step is on its way is there when the step is. A unit typed along is taken.
let letGo;
const held = new Promise((done) => { letGo = done; });
await page.route((url) => url.pathname.startsWith("/checks/"), async (route) => {
  await held;
  await route.continue();
}, { times: 1 });
await page.waitForFunction(() => document.activeElement?.id === "typed");
await page.keyboard.type("5.003 kg");
await page.keyboard.press("Enter");
await page.waitForSelector("form.is-sending");
await page.keyboard.type("10.1");
await page.keyboard.press("Backspace");
const arrived = page.waitForNavigation();
letGo();
await arrived;
await page.waitForFunction(() => document.querySelector("#typed")?.value === "10.");
assert.equal(await page.evaluate(() => document.activeElement.id), "typed");
await page.fill("#typed", "");
// Where the entry before it is refused, what was typed meanwhile is told and not lost.
let answer;
const waits = new Promise((done) => { answer = done; });
await page.route((url) => url.pathname.startsWith("/checks/"), async (route) => {
  await waits;
  await route.continue();
}, { times: 1 });
await page.keyboard.type("10.0001");
await page.keyboard.press("Enter");
await page.waitForSelector("form.is-sending");
await page.keyboard.type("20.1");
const refused = page.waitForNavigation();
answer();
await refused;
assert.match(await page.locator("#typed-error").innerText(), /steps of/);
assert.match(await page.locator("form.entry [role=status]").innerText(), /Typed meanwhile and not used: 20\.1/);
assert.equal(await page.inputValue("#typed"), "10.0001");
await page.goto(page.url().replace(/\/entries$/, ""));

// A reload in the middle loses nothing.
await page.reload();
assert.match(await heading(), /Put 10 kg in the middle/);
assert.equal(await page.locator(".way li.done").count(), 5);

// Digits typed while nothing has the focus reach the field.
await page.evaluate(() => document.activeElement.blur());
await page.keyboard.type("1.007");
assert.equal(await page.locator("#typed").inputValue(), "1.007");
await page.fill("#typed", "");

// A far reading is asked about; typing on replaces it.
await type("1.007");
assert.match(await page.locator("#typed-error").innerText(), /Is the 10 kg on the pan/);
await type("10.007");
assert.match(await heading(), /Put 20 kg in the middle/);
for (const text of ["20.016", "20,016", "20.015"]) await type(text);

// Esc steps back to the last reading, and from there to the step.
await go("Escape");
assert.match(await heading(), /^Correct: Put 20 kg/);
await go("Escape");
assert.match(await heading(), /Come down to 10 kg/);
for (const text of ["10.008", "10.007", "0.000"]) await type(text);
// Everything is looked over before the weights are put away.
assert.equal(await heading(), "Look over what was kept");
assert.equal(await page.locator("table.review tbody tr").count(), 9);
await page.waitForFunction(() => document.activeElement?.tagName === "BUTTON");
await go("Enter");
await tickAll();

assert.match(await heading(), /Tank scale R-02:\s*Within tolerance, and its error at 20 kg is drifting/);
assert.match(await page.locator(".action").innerText(), /adjust nothing/);
// To the chart: by Tab to its link.
for (let n = 0; n < 40; n += 1) {
  await press("Tab");
  const words = await page.evaluate(() => document.activeElement?.textContent ?? "");
  if (words === "Error at 20 kg") break;
}
await go("Enter");
assert.match(await heading(), /error at 20 kg, in grams/);
assert.match(await page.locator(".card-strip").first().innerText(), /Drifting up/);
// Walk to the newest point: it is flagged, with the reason in words.
await page.locator("[data-chart]").focus();
await press("End");
const record = await page.locator("[data-record]").innerText();
assert.match(record, /24 Nov 2026, 22:34: \+15\.\d\d? g, .*(above|drift)/);
assert.match(record, /Aino Verkala, standard V-2231/);
await press("ArrowLeft");
assert.notEqual(await page.locator("[data-record]").innerText(), record);
await press("ArrowRight");
await go("Enter");
assert.match(page.url(), /\/charts\/\d+\/points\/\d+$/);
for (let n = 0; n < 40; n += 1) {
  await press("Tab");
  if ((await page.evaluate(() => document.activeElement?.textContent ?? "")) === "Verdict") break;
}
await go("Enter");
assert.match(page.url(), /\/checks\/\d+\/verdict$/);
assert.ok(page.url().startsWith(base));
assert.deepEqual(faults, []);
await browser.close();
