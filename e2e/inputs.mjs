// A choice, a text and a count by keyboard, with the network gone in the middle: asked on the device as by the server,
// kept there, and sent when the network is back. The plan that asks for them is there already.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const browser = await launch();
const bench = await browser.newContext({ viewport: { width: 1280, height: 800 } });
const page = await bench.newPage();
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));
await signIn(page, "teemu", "kuiva-kivi-7");

const heading = () => page.locator("h1").first().innerText();
/** Does something after which another step stands there, with or without the server. */
async function onward(act) {
  const words = await heading();
  await act();
  await page.waitForFunction((words) => document.querySelector("h1")?.innerText !== words, words);
}
const type = (text) => onward(async () => {
  await page.fill("#typed", text);
  await page.press("#typed", "Enter");
});

const row = page.locator("table.round tr", { hasText: "P-12" });
await Promise.all([page.waitForNavigation(), row.locator(".do button").click()]);
await onward(async () => {
  for (const box of await page.locator(".ticks input").all()) await box.check();
  await page.locator("form.entry .main-button").click();
});
await type("pr-1");
assert.match(await heading(), /unit on the display/);
await type("BAR");

// By keyboard: Enter on nothing asks for a choice, the arrows choose, Enter keeps it.
assert.match(await heading(), /What is the damping set to\?/);
await page.waitForFunction(() => document.activeElement?.type === "radio");
await page.keyboard.press("Enter");
await page.waitForSelector("#typed-error");
assert.match(await page.locator("#typed-error").innerText(), /Choose what the damping is: slow, middle, fast/);
await page.waitForFunction(() => document.activeElement?.type === "radio");
await page.keyboard.press("ArrowDown");
assert.equal(await page.locator("input[type=radio]:checked").getAttribute("value"), "middle");
await onward(() => page.keyboard.press("Enter"));
assert.match(await heading(), /serial of the hose/);

// The network goes: what is typed now stays on the device, and is asked the same.
await bench.setOffline(true);
const refused = async (text, words) => {
  await page.fill("#typed", text);
  await page.press("#typed", "Enter");
  await page.waitForFunction((source) => new RegExp(source).test(document.querySelector("form.entry .field-error")?.innerText ?? ""), words.source);
};
await refused("  ", /Read the serial of the hose/);
await type("№ 4711 <b>µ</b>");
assert.match(await heading(), /number of adapters/);
await refused("two", /a whole number from 0 to 999999/);
await refused("1,5", /a whole number/);
await type("2");
assert.match(await heading(), /Go to 80 bar/);
await refused("95", /Is the reference at 80 bar/);
await type("80");
assert.match(await heading(), /Go to 320 bar/);
const kept = await page.locator("[data-held-list] li").allInnerTexts();
assert.equal(kept.length, 3);
assert.match(kept.join("\n"), /№ 4711 <b>µ<\/b>/);

// Back: all of it is sent, in its order, and the check goes on where it stood.
await bench.setOffline(false);
await page.waitForFunction(() => document.querySelectorAll("table.kept tbody tr").length >= 5);
assert.match(await heading(), /Go to 320 bar/);
const shown = await page.locator("table.kept tbody tr").allInnerTexts();
for (const words of [/bar/i, /middle/, /№ 4711 <b>µ<\/b>/, /\b2\b/, /80 bar/]) assert.ok(shown.some((line) => words.test(line)), `${words} in ${shown}`);

// A slip of the finger at a choice is corrected like a reading, with a reason, and voids what rests on it.
await Promise.all([page.waitForNavigation(), page.locator("table.kept tr", { hasText: "Damping" }).locator("a").click()]);
assert.match(await heading(), /^Correct: What is the damping set to\?/);
assert.match(await page.locator(".notice").first().innerText(), /makes void what rests on it: .*80 bar/);
await page.locator("input[value=fast]").check();
await page.fill("#reason", "wrong line touched");
await Promise.all([page.waitForNavigation(), page.press("#reason", "Enter")]);
assert.match(await heading(), /Go to 80 bar/);
assert.ok((await page.locator("table.kept").innerText()).includes("fast"));
assert.ok(page.url().startsWith(base));
assert.deepEqual(faults, []);
await browser.close();
