// Several settings on one screen, by keyboard, with the network gone in the middle: each is asked and kept by itself. The
// check is open already; its path is given.
import assert from "node:assert/strict";
import { AxeBuilder } from "@axe-core/playwright";
import { base, launch, signIn } from "./browser.mjs";

const path = process.argv[2];
const browser = await launch();
const bench = await browser.newContext({ viewport: { width: 1280, height: 800 } });
const page = await bench.newPage();
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
await signIn(page);
await page.goto(base + path);

const heading = () => page.locator("h1").first().innerText();
async function onward(act) {
  const words = await heading();
  await act();
  await page.waitForFunction((words) => document.querySelector("h1")?.innerText !== words, words);
}
await onward(async () => {
  for (const box of await page.locator(".ticks input").all()) await box.check();
  await page.locator("form.entry .main-button").click();
});
await onward(async () => {
  await page.fill("#typed", "VM-1");
  await page.press("#typed", "Enter");
});
assert.equal(await heading(), "What is it set to?");
assert.equal(await page.locator("[data-row]").count(), 5);

// Enter goes to the next that is open; behind the last it keeps them.
const atField = (title) => page.waitForFunction((title) => document.activeElement?.closest("[data-row]")?.dataset.title === title, title);
await atField("Start of the sweep");
await page.keyboard.type("2");
await page.keyboard.press("Enter");
await atField("Stop of the sweep");
await page.keyboard.type("6000 MHz");
// The button keeps what is typed; what is empty stays open.
await page.locator("form.values .main-button").click();
await page.waitForFunction(() => document.querySelectorAll("[data-row]").length === 3);
assert.equal(await page.locator(".value-row.is-kept").count(), 2);
await atField("Power");

const looked = await new AxeBuilder({ page }).withTags(["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa"]).analyze();
assert.deepEqual(looked.violations.map((one) => `${one.id}: ${one.nodes.map((node) => node.target).join(", ")}`), []);

// The network goes: the same questions, at the same places.
await bench.setOffline(true);
await page.keyboard.type("-5");
await page.keyboard.press("Enter");
await atField("Bandwidth of the receiver");
await page.keyboard.type("1 kHz");
await page.keyboard.press("Enter");
await atField("User correction");
await page.keyboard.type("off");
await page.keyboard.press("Enter");
const error = page.locator("[data-row][data-title=Power] .field-error");
await error.waitFor();
assert.match(await error.innerText(), /the power must be -10 dBm, and \u201c-5\u201d was typed/);
assert.equal(await page.locator("[data-row] .field-error").count(), 1);
await atField("Power");
await page.keyboard.type("-10");
await onward(() => page.keyboard.press("Enter"));
const held = await page.locator("[data-held-list] li").allInnerTexts();
assert.equal(held.length, 3, held.join("\n"));
assert.match(held[0], /Power: -10/);

// Back: all of it is sent, and what was found at first stands on record.
await bench.setOffline(false);
await page.waitForFunction(() => document.querySelectorAll("table.kept tbody tr").length >= 5);
const kept = (await page.locator("table.kept tbody tr").allInnerTexts()).join("\n");
for (const words of ["6000 MHz", "-10", "1 kHz", "off"]) assert.ok(kept.includes(words), `${words} in ${kept}`);
assert.deepEqual(faults, []);
await browser.close();
