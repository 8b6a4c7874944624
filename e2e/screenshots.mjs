// Writes the current picture of each main view: node screenshots.mjs FOLDER
import { join } from "node:path";
import { base, launch, signIn } from "./browser.mjs";

const folder = process.argv[2];
const browser = await launch();

async function open(colorScheme) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme });
  return context.newPage();
}

async function shoot(page, name) {
  // Fonts are what comes late; a step that listens to its instrument is never idle.
  await page.waitForLoadState("load");
  await page.evaluate(() => document.fonts.ready);
  await page.screenshot({ path: join(folder, `${name}.png`) });
  console.log(`${name}.png`);
}

const page = await open("light");
await signIn(page);
await shoot(page, "round");

const start = page.locator("table.round tr", { hasText: "R-02" }).locator(".do button");
await Promise.all([page.waitForNavigation(), start.click()]);
// What comes next is put into the open page: it is there when another entry is asked for, or none.
const asked = () => document.querySelector("form.entry input[name=key]")?.value ?? "";
const send = async () => {
  const before = await page.evaluate(asked);
  await page.click("form.entry .main-button");
  await page.waitForFunction((was) => (document.querySelector("form.entry input[name=key]")?.value ?? "") !== was, before);
};
const type = async (text) => {
  await page.fill("#typed", text);
  await send();
};
const tickAll = async () => {
  for (const box of await page.locator(".ticks input").all()) await box.check();
  await send();
};
await tickAll();
await type("M1-B");
await tickAll();
for (const text of ["0.000", "5.003", "10.007", "20.015"]) await type(text);
await page.fill("#typed", "20.016");
await shoot(page, "check");
await type("2.016");
const dark = await open("dark");
await signIn(dark);
await dark.goto(page.url().replace(/\/entries$/, ""));
await page.goto(page.url().replace(/\/entries$/, ""));
for (const text of ["20.016", "20.015", "10.008", "10.007", "0.000"]) await type(text);
await send();
await tickAll();
await shoot(page, "verdict");
await page.click(".links a >> text=20 kg");
await shoot(page, "chart");
await page.locator(".ranges a >> text=Table").click();
await page.goto(`${base}/wall`);
await page.screenshot({ path: join(folder, "wall.png") });
console.log("wall.png");
await page.goto(`${base}/charts/1/study?chosen=yes&from=2026-02-01&to=2026-06-30`);
await shoot(page, "study");
await page.goto(`${base}/signals`);
await shoot(page, "signals");
await dark.goto(`${base}/charts`);
await dark.locator("tr", { hasText: "Roll scale P-06" }).locator("a").first().click();
await shoot(dark, "chart-dark");

const begin = async (tag) => {
  await page.goto(`${base}/`);
  const button = page.locator("table.round tr", { hasText: tag }).locator(".do button");
  await Promise.all([page.waitForNavigation(), button.click()]);
};
await begin("R-21");
await tickAll();
for (const text of ["TR-1", "Pt100", "°C", "21.4"]) await type(text);
await tickAll();
await send();
await begin("P-11");
await tickAll();
for (const text of ["PR-1", "bar"]) await type(text);
await tickAll();
for (const text of ["81", "200", "321"]) await type(text);
await page.fill("#typed", "201");
await shoot(page, "gauge");
// The network goes: what is typed stays on the device, and the next step is there.
await page.context().setOffline(true);
for (const text of ["201", "81"]) {
  await page.fill("#typed", text);
  await page.press("#typed", "Enter");
  if (text === "201") await page.waitForFunction(() => /80 bar/.test(document.querySelector("h1").innerText));
  if (text === "201") {
    await page.screenshot({ path: join(folder, "held.png") });
    console.log("held.png");
  }
}
await page.context().setOffline(false);
await page.waitForFunction(() => localStorage.getItem("vaaka.held") === "[]");
await page.goto(`${base}/instruments/R-02`);
await shoot(page, "instrument");
await page.goto(`${base}/culprit`);
await shoot(page, "culprit");
await page.goto(`${base}/standards/HB-30`);
await shoot(page, "standard");

// A scale that reads too much by more and more: failed, its ladder, adjusted, on record.
await begin("R-05");
for (let left = 40; left > 0 && !page.url().endsWith("/verdict"); left -= 1) {
  const reading = page.locator("form.entry[data-rules=reading]");
  const expected = (await reading.count()) > 0 ? await reading.getAttribute("data-wanted") : null;
  if ((await page.locator(".ticks input").count()) > 0) await tickAll();
  else if (expected !== null) {
    await type((Number(expected) * 1.00012).toFixed(1));
    // Far off it asks, and the display does show that.
    const asked = page.locator("form.entry button[name=confirm_far]");
    if ((await asked.count()) > 0) await Promise.all([page.waitForNavigation(), asked.click()]);
  } else if ((await page.locator("form.entry.tag").count()) > 0) await type("F2-A");
  else await send();
}
const verdict = page.url();
await page.fill("#rung-note", "wiped the pan, nothing under it");
await Promise.all([page.waitForNavigation(), page.click(".rung-form button")]);
await page.goto(verdict);
await shoot(page, "verdict-failed");
await signIn(page, "ilma", "tyyni-selka-3");
await page.goto(verdict.replace("/verdict", "/adjust"));
await shoot(page, "adjust");
await page.goto(verdict.replace("/verdict", "/record"));
await shoot(page, "record");
await page.goto(`${base}/plans/8/edit`);
await shoot(page, "plan-editor");
// A network analyzer: what its raw sweeps make of the piece that verifies it.
await page.goto(`${base}/instruments/V-02`);
await page.goto(base + (await page.locator("main a[href$='/verdict']").first().getAttribute("href")));
await page.locator("svg.plane").first().evaluate((plane) => plane.scrollIntoView({ block: "center" }));
await shoot(page, "network");
// A hardness block: the map says where the next reading goes. It is due on Mondays, so that a lead orders it.
await page.goto(`${base}/instruments/P-21`);
const plan = await page.locator("a[href^='/plans/']", { hasText: "tool steel" }).getAttribute("href");
const form_token = await page.locator("input[name=form_token]").first().getAttribute("value");
await page.request.post(`${base}${plan}/order`, { form: { form_token, reason: "the indenter was changed and looked at" } });
await begin("P-21");
await tickAll();
for (const text of ["HB-25", "HB-45", "HB-62", "HRC", "1471 N"]) await type(text);
await tickAll();
for (const text of ["25.6", "25.8"]) await type(text);
await shoot(page, "hardness");
await browser.close();
