// Checks of which the readings come from the instruments: by a key of the keyboard, by the instrument's own key, with the
// network gone in the middle.
import assert from "node:assert/strict";
import { base, launch } from "./browser.mjs";

const bench = process.argv[2];
const browser = await launch();
const room = await browser.newContext({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block" });
const page = await room.newPage();
const faults = [];
page.on("pageerror", (error) => faults.push(String(error)));

await page.goto(`${base}/sign-in`);
await page.fill("#name", "aino");
await page.fill("#password", "kapea-silta-4");
await Promise.all([page.waitForNavigation(), page.press("#password", "Enter")]);

const begin = async (tag) => {
  await page.goto(base);
  const row = page.locator("table.round tr", { hasText: tag });
  await Promise.all([page.waitForNavigation(), row.locator(".do button").click()]);
};
const heading = () => page.locator("main h1").innerText();
// The step goes on without a new page: its bead is another one then.
const goOn = async (act) => {
  const key = () => page.evaluate(() => document.querySelector("form.entry input[name=key]")?.value ?? location.pathname);
  const before = await key();
  await act();
  await page.waitForFunction((before) => (document.querySelector("form.entry input[name=key]")?.value ?? location.pathname) !== before, before);
};
const toReading = async () => {
  for (let n = 0; n < 12 && (await page.locator("form.entry.reading").count()) === 0; n += 1) {
    await goOn(async () => {
      for (const box of await page.locator(".ticks input").all()) await box.check();
      if ((await page.locator("form.entry.setting").count()) > 0) await page.fill("#typed", await page.locator("form.entry").getAttribute("data-wanted"));
      if ((await page.locator("form.entry.tag").count()) > 0) await page.fill("#typed", await page.locator("aside [data-standard] .strong").innerText());
      await page.locator("form.entry .main-button").click();
    });
  }
};
const captured = () => page.waitForFunction(() => document.querySelector("input[name=capture]")?.value && document.querySelector("#typed").value);

await begin("R-02");
await toReading();
// F9 reads, Enter keeps: nothing is kept before.
let read = 0;
const capture = async () => {
  await page.keyboard.press("F9");
  await captured();
  assert.match(await page.locator("[data-captured]").innerText(), /Received: gross/);
  assert.equal(await page.evaluate(() => document.activeElement.id), "typed");
  await goOn(() => page.keyboard.press("Enter"));
  read += 1;
};
await capture();
await capture();
// Typed over, it is typed: the words about the capture go.
await page.keyboard.press("F9");
await captured();
await page.fill("#typed", "10.007");
assert.equal(await page.locator("[data-captured]").innerText(), "");
assert.equal(await page.locator("input[name=capture]").inputValue(), "");
await goOn(() => page.keyboard.press("Enter"));
// With the network gone nothing is read, and what is typed is kept on the device.
await room.setOffline(true);
await page.keyboard.press("F9");
await page.waitForFunction(() => /cannot be reached/.test(document.querySelector("[data-captured]")?.textContent));
await page.fill("#typed", "20.016");
await page.press("#typed", "Enter");
await page.waitForFunction(() => /kept on this device/i.test(document.querySelector("[data-held]")?.textContent) && JSON.parse(localStorage.getItem("vaaka.held") ?? "[]").length === 1);
assert.equal(await page.locator("[data-read]").count(), 0, "steps drawn ahead read nothing");
await room.setOffline(false);
await page.waitForFunction(() => localStorage.getItem("vaaka.held") === "[]", null, { timeout: 20000 });
await page.waitForSelector("form.entry.reading [data-read]");
for (let n = 0; n < 12 && (await page.locator("form.entry.reading").count()) > 0; n += 1) await capture();
assert.ok(read >= 5, `${read} were read`);
const check = new URL(page.url()).pathname;
const record = await room.newPage();
await record.goto(`${base}${check}/record`);
assert.equal(await record.locator("table.entries tr", { hasText: "captured from the instrument at 127.0.0.1" }).count(), read);

// An instrument with a key of its own is listened to as soon as its step is there.
await begin("P-11");
await toReading();
await page.waitForSelector("[data-own-key][aria-busy=true]");
assert.match(await page.locator("[data-captured]").innerText(), /Press the print key/);
// Until the line is open nobody hears a key.
for (let n = 0; n < 40 && !(await page.locator("input[name=capture]").inputValue()); n += 1) {
  await fetch(`${bench}/P-11/press`, { method: "POST", redirect: "manual" });
  await page.waitForFunction(() => document.querySelector("input[name=capture]").value, null, { timeout: 500 }).catch(() => {});
}
await captured();
const shown = await page.locator("#typed").inputValue();
assert.match(await page.locator("[data-captured]").innerText(), new RegExp(`;${shown.replace(".", "\\.")};`));
await goOn(() => page.keyboard.press("Enter"));
// Whoever types does not wait.
await page.waitForSelector("[data-own-key][aria-busy=true]");
await page.keyboard.type("1");
await page.waitForFunction(() => !document.querySelector("[data-own-key]").hasAttribute("aria-busy"));
assert.equal(await page.locator("#typed").inputValue(), "1");
assert.equal(await page.locator("[data-captured]").innerText(), "");
assert.deepEqual(faults, []);
console.log(`${read} readings came over the line; at last ${await heading()}`);
await browser.close();
