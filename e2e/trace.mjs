// A check whose readings are traces, by one person with a mouse and a keyboard: a file is dropped, a wrong one is refused at
// its place, values are read off the curve, and the second file is kept while the network is gone.
import assert from "node:assert/strict";
import { launch, signIn } from "./browser.mjs";

const path = process.argv[2];
const browser = await launch();
const bench = await browser.newContext({ viewport: { width: 1280, height: 800 } });
const page = await bench.newPage();
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
await signIn(page, "teemu", "kuiva-kivi-7");
await page.goto(`${process.env.VAAKA_BASE_URL}${path}`);

function scan(off, bands = [352.41, 431.78, 528.63, 619.28]) {
  const lines = ["Wavelength (nm);Absorbance"];
  for (let index = 0; index <= 580; index += 1) {
    const x = 342 + 0.5 * index;
    const y = bands.reduce((sum, at) => sum + 0.5 * Math.exp(-(((x - at - off) / 3.4) ** 2)), 0.05);
    lines.push(`${x.toFixed(1)};${y.toFixed(5)}`.replaceAll(".", ","));
  }
  return lines.join("\r\n");
}

/** Drops a file on the step, as from a folder. */
async function drop(name, text) {
  const data = await page.evaluateHandle(({ name, text }) => {
    const data = new DataTransfer();
    data.items.add(new File([text], name, { type: "text/csv" }));
    return data;
  }, { name, text });
  await page.dispatchEvent(".step", "dragover", { dataTransfer: data });
  await page.dispatchEvent(".step", "drop", { dataTransfer: data });
  await page.waitForFunction((name) => document.querySelector("#file").files[0]?.name === name, name);
}
const refused = (words) =>
  page.waitForFunction((source) => new RegExp(source).test(document.querySelector("form.entry .field-error")?.innerText ?? ""), words.source);
const keep = () => page.keyboard.press("Enter");

// Nothing chosen: Enter on the button says what to do and sends nothing.
await page.locator("form.entry .main-button").focus();
await keep();
await refused(/Choose the file with the spectrum/);

// A file of another kind is refused at its place, and the page stays as it is.
await drop("words.csv", "a report\nof nothing\n");
assert.equal(await page.evaluate(() => document.activeElement.className), "main-button", "with a file in hand the next is to keep it");
await keep();
await refused(/no rows of numbers/);

// A peak is missing: asked about, with a button for this very file; another file takes the button away.
await drop("no filter.csv", scan(0, [352.41]));
await page.locator("form.entry .main-button").focus();
await keep();
await refused(/No peak is where 431\.8 nm belongs/);
assert.equal(await page.locator("button[name=confirm_far]").count(), 1);
await drop("first.csv", scan(0.1));
assert.equal(await page.locator("button[name=confirm_far]").count(), 0);
await Promise.all([page.waitForNavigation(), keep()]);
assert.match(await page.locator(".detail").innerText(), /Reading 2 of 2/);

// Values are read off the curve, by keys and by the pointer.
const value = () => page.locator("[data-plot-value]").innerText();
await page.locator("[data-plot]").focus();
await page.keyboard.press("Home");
assert.match(await value(), /^342 nm: 0\.05/);
await page.keyboard.press("ArrowRight");
assert.match(await value(), /^342\.5 nm/);
await page.keyboard.press("End");
assert.match(await value(), /^632 nm/);
// In its middle, wherever the page has scrolled to by then.
await page.locator("svg.plot").hover();
// A pointer is heard with the next frame.
await page.locator("[data-plot-value]", { hasText: /^4[78]\d(\.5)? nm/ }).waitFor();
const facts = await page.locator("table.facts").innerText();
assert.match(facts, /Peak at 431\.8 nm\s+431\.8[78]\d nm \(\+0\.(09|10)\d\)/, facts);

// The network goes: the file is held on the device like a reading, also over a reload of nothing.
await bench.setOffline(true);
await drop("second.csv", scan(0.12));
await page.locator("form.entry .main-button").focus();
await keep();
await page.waitForSelector("[data-held-list] li");
assert.match(await page.locator("[data-held-list] li").innerText(), /Scan, 2: second\.csv/);
await bench.setOffline(false);
await page.waitForSelector("form.entry.review");
const kept = await page.locator("table.review").innerText();
assert.match(kept, /first\.csv, 581 points/);
assert.match(kept, /second\.csv, 581 points/);
// Nothing of it is left on the device.
const left = await page.evaluate(() => new Promise((resolve) => {
  const asked = indexedDB.open("vaaka", 1);
  asked.onsuccess = () => {
    const count = asked.result.transaction("files").objectStore("files").count();
    count.onsuccess = () => resolve(count.result);
  };
}));
assert.equal(left, 0);
assert.equal(await page.evaluate(() => localStorage.getItem("vaaka.held")), "[]");
await Promise.all([page.waitForNavigation(), page.locator("form.entry .main-button").click()]);
for (const box of await page.locator(".ticks input").all()) await box.check();
await Promise.all([page.waitForURL(/verdict$/), page.locator("form.entry .main-button").click()]);
assert.match(await page.locator("h1").innerText(), /Within tolerance/);
assert.deepEqual(faults, []);
await browser.close();
