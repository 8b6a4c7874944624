// A lead builds a plan that goes up and down without meeting stored settings, sees it as the
// technician will, another lead approves, and the technician runs it by keyboard.
import assert from "node:assert/strict";
import { base, launch, signIn } from "./browser.mjs";

const browser = await launch();
const desk = async (name, password) => {
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  await signIn(page, name, password);
  return page;
};
const id = (name) => `#f-${name.replaceAll(".", "-")}`;
const send = (page, button) => Promise.all([page.waitForNavigation(), page.click(button)]);

const lead = await desk("ilma", "tyyni-selka-3");
await lead.goto(`${base}/new/plan?instrument=P-13`);
await lead.selectOption(id("method"), "gauge");
await lead.fill(id("name"), "Press 3 gauge each shift");
await send(lead, ".form-buttons .main-button");
await lead.selectOption(id("standard"), { label: "PR-1 Pressure reference, brown case" });
await lead.fill(id("minutes"), "7");
await lead.selectOption(id("s.mean_limit.form"), "percent_of_range");
await lead.fill(id("s.mean_limit.percent"), "1,6");
await lead.selectOption(id("s.hysteresis_limit.form"), "absolute");
await lead.fill(id("s.hysteresis_limit.half_width"), "5");
// What holds nothing yet is folded, and a rule shows only the numbers that it needs.
assert.equal(await lead.locator("details.part-fold").count() > 3, true);
assert.equal(await lead.locator(id("decision_share")).isVisible(), false);
await lead.selectOption(id("decision_rule"), "guard_band_share");
assert.equal(await lead.locator(id("decision_share")).isVisible(), true);
await lead.selectOption(id("decision_rule"), "simple_acceptance");
await lead.fill(id("s.cautions"), "Oil under pressure: shield closed.");
const points = [["80", "rising", "2"], ["200", "rising", "2"], ["320", "rising", "2"], ["200", "falling", "1"], ["80", "falling", "1"]];
for (const [row, [value, way, times]] of points.entries()) {
  if ((await lead.locator(id(`points.${row}.nominal`)).count()) === 0) await send(lead, "button[name=more][value=points]");
  await lead.fill(id(`points.${row}.nominal`), value);
  await lead.selectOption(id(`points.${row}.travel`), way);
  await lead.fill(id(`points.${row}.repeats`), times);
  await lead.fill(id(`points.${row}.pieces`), value);
  await lead.check(id(`points.${row}.charted`));
}
assert.equal(await lead.inputValue(id("points.0.nominal")), "80", "more rows lost nothing");
// A slip: the piece is not the point. It is said at the field, and everything stays.
await lead.fill(id("points.1.pieces"), "320");
await send(lead, ".form-buttons .main-button");
assert.match(await lead.locator(`${id("points.1.pieces")}-error`).innerText(), /make 320 bar, and the point is 200 bar/);
assert.equal(await lead.inputValue(id("s.mean_limit.percent")), "1,6");
await lead.fill(id("points.1.pieces"), "200");
await send(lead, ".form-buttons .main-button");
assert.match(await lead.locator("h1").innerText(), /Press 3 gauge each shift, version 1/);
assert.equal(await lead.locator(".preview-step svg.scene").count(), 5);
const version = lead.url();

const other = await desk("rauno", "hiljainen-vuo-5");
await other.goto(version);
await other.fill("#password", "hiljainen-vuo-5");
await send(other, "text=Approve it");

const bench = await desk("aino", "kapea-silta-4");
const row = bench.locator("table.round tr", { hasText: "P-13" });
await row.locator(".do button").focus();
await Promise.all([bench.waitForNavigation(), bench.keyboard.press("Enter")]);
const readings = ["80", "81", "201", "201", "322", "322", "203", "82"];
for (let n = 0; n < 20 && !bench.url().endsWith("/verdict"); n += 1) {
  const boxes = await bench.locator(".ticks input").count();
  const before = await bench.locator(".step").innerText();
  if (boxes > 0) {
    await bench.waitForFunction(() => document.activeElement?.type === "checkbox");
    for (let k = 1; k < boxes; k += 1) await bench.keyboard.press("Enter");
  } else if ((await bench.locator(".entry.tag").count()) > 0) {
    await bench.waitForFunction(() => document.activeElement?.id === "typed");
    await bench.keyboard.type("PR-1");
  } else if ((await bench.locator(".entry.reading").count()) > 0) {
    await bench.waitForFunction(() => document.activeElement?.id === "typed");
    await bench.keyboard.type(readings.shift());
  } else {
    await bench.waitForFunction(() => document.activeElement?.tagName === "BUTTON");
  }
  await Promise.all([bench.waitForNavigation(), bench.keyboard.press("Enter")]);
  assert.notEqual(await bench.locator("body").innerText(), before);
}
assert.match(await bench.locator("h1").innerText(), /Within tolerance/);
const found = await bench.locator("table.results").innerText();
assert.match(found, /Falling minus rising at 200 bar/);
await browser.close();
