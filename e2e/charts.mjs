// The chart room in the browser: from point to point, closer and wider by key, a stretch drawn over, a
// picture made, and a wall that changes when a check is submitted at another bench.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const browser = await launch();
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
page.on("console", (message) => {
  if (message.type() === "error") faults.push(message.text());
});

await signIn(page, "ilma", "tyyni-selka-3");
await page.goto(`${base}/charts/1`);
const sheet = page.locator("[data-chart]");
const shown = () => page.locator(".ways span").innerText();
await sheet.focus();
await page.keyboard.press("End");
const newest = await page.locator("[data-record]").innerText();
await page.keyboard.press("ArrowLeft");
const before = await page.locator("[data-record]").innerText();
assert.notEqual(newest, before);
assert.match(before, /standard/);

// Closer, wider, earlier, later: each is a page of its own, so that the way back is the browser's.
for (const key of ["+", "-", "Shift+ArrowLeft", "Shift+ArrowRight"]) {
  const here = await shown();
  await sheet.focus();
  await Promise.all([page.waitForNavigation(), page.keyboard.press(key)]);
  assert.notEqual(await shown(), here, key);
}
// A stretch is drawn over.
await page.goto(`${base}/charts/1`);
const box = await page.locator("svg.chart").boundingBox();
const at = (share) => [box.x + box.width * share, box.y + box.height * 0.3];
await page.mouse.move(...at(0.3));
await page.mouse.down();
await page.mouse.move(...at(0.4), { steps: 4 });
await page.mouse.move(...at(0.5), { steps: 4 });
await Promise.all([page.waitForNavigation(), page.mouse.up()]);
assert.match(page.url(), /from=.*&to=/);
const few = await page.locator("svg.chart .point").count();
assert.ok(few > 3 && few < 60, `${few} points`);

// Enter opens the point with its numbers.
await page.locator("[data-chart]").focus();
await page.keyboard.press("Home");
await Promise.all([page.waitForNavigation(), page.keyboard.press("Enter")]);
assert.match(page.url(), /\/charts\/1\/points\/\d+$/);

// A picture of the drawing.
await page.goto(`${base}/charts/1?range=week`);
const [download] = await Promise.all([page.waitForEvent("download"), page.click("[data-picture] button")]);
assert.match(download.suggestedFilename(), /^R-02-chart-1\.png$/);
const size = Number(await page.locator("[data-picture]").getAttribute("data-made"));
assert.ok(size > 10_000, `${size} bytes`);

// Its like at another instrument is laid beside it; the tags that may be typed are offered.
await page.click("[data-alike] summary");
await page.waitForFunction(() => document.querySelectorAll("#alike option").length > 3);
const tags = await page.locator("#alike option").evaluateAll((all) => all.map((one) => one.value));
assert.ok(tags.includes("R-09") && !tags.includes("R-02"), tags.join(" "));
await page.fill("#beside-tag", "R-09");
await Promise.all([page.waitForNavigation(), page.click("[data-alike] button")]);
assert.match(page.url(), /range=week.*tag=R-09/);
assert.match(await page.locator("svg.chart").innerHTML(), /beside it R-09/);

// The wall changes by itself.
const other = await (await browser.newContext()).newPage();
await page.goto(`${base}/wall`);
await page.waitForFunction(() => document.querySelector("[data-wall-state]").textContent.startsWith("Live"));
const card = () => page.locator("[data-chart-card]", { hasText: "R-09" }).first().locator(".wall-value");
const old = await card().innerText();
await signIn(other);
const row = other.locator("table.round tr", { hasText: "R-02" });
await Promise.all([other.waitForNavigation(), row.locator(".do button").click()]);
const of = page.locator("[data-chart-card='1'] .wall-value");
const was = await of.innerText();
const send = () => Promise.all([other.waitForNavigation(), other.click("form.entry .main-button")]);
const type = async (text) => {
  await other.fill("#typed", text);
  await send();
};
const tickAll = async () => {
  for (const one of await other.locator(".ticks input").all()) await one.check();
  await send();
};
await tickAll();
await type("M1-B");
await tickAll();
for (const text of ["0.000", "5.001", "10.002", "20.003", "20.003", "20.003", "10.002", "10.002", "0.000"]) {
  await type(text);
}
await send();
await tickAll();
await page.waitForFunction((text) => document.querySelector("[data-chart-card='1'] .wall-value").innerText !== text, was);
assert.equal(await card().innerText(), old, "the others stay");

assert.deepEqual(faults, []);
await browser.close();
console.log("the chart room by hand");
