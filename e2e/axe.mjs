// axe on every page: light at the bench's size, dark on a narrow tablet. Contrast knows no size, and
// layout knows no colour, so the other two pairs would find nothing else.
import { AxeBuilder } from "@axe-core/playwright";
import { base, launch, signIn } from "./browser.mjs";

const browser = await launch();
let failed = 0;
let seen = 0;

// What a scheme of colours and a width can change; the rest was asked in the light.
const OF_LOOK = ["color-contrast", "link-in-text-block", "scrollable-region-focusable", "target-size"];
let rules;

async function check(page, name) {
  // No page here has a frame, so that it is asked in the page itself; otherwise a second page is opened for each.
  const axe = new AxeBuilder({ page }).setLegacyMode();
  const result = await (rules
    ? axe.withRules(rules)
    : axe.withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"])
  ).analyze();
  seen += 1;
  for (const violation of result.violations) {
    failed += 1;
    const where = violation.nodes.map((node) => `${node.target.join(" ")}: ${node.failureSummary}`).join("\n    ");
    console.log(`${name}: ${violation.id}: ${violation.help}\n    ${where}`);
  }
}

async function submit(page, fields) {
  for (const [selector, value] of Object.entries(fields)) await page.fill(selector, value);
  await Promise.all([page.waitForNavigation(), page.click("form.entry .main-button")]);
}

for (const [colorScheme, viewport] of [
  ["light", { width: 1280, height: 800 }],
  ["dark", { width: 800, height: 1100 }],
]) {
  rules = colorScheme === "dark" ? OF_LOOK : undefined;
  const context = await browser.newContext({ colorScheme, viewport });
  const page = await context.newPage();
  const name = (text) => `${text}, ${colorScheme}, ${viewport.width}`;
  await page.goto(`${base}/sign-in`);
  await check(page, name("sign-in"));
  await page.fill("#name", "nobody");
  await page.fill("#password", "wrong");
  await Promise.all([page.waitForNavigation(), page.press("#password", "Enter")]);
  await check(page, name("sign-in refused"));
  await signIn(page);
  await check(page, name("round"));
  await page.click(".who summary");
  await check(page, name("round with the menu open"));

  // A check at each kind of step; the first walk starts it, the others find it open.
  await page.goto(base);
  const row = page.locator("table.round tr", { hasText: "F-04" });
  await Promise.all([page.waitForNavigation(), row.locator(".do button, .do a").click()]);
  const path = page.url();
  for (let n = 0; n < 8; n += 1) {
    const boxes = page.locator(".ticks input");
    const count = await boxes.count();
    if (count > 0) {
      await check(page, name("ticks"));
      for (let k = 0; k < count; k += 1) await boxes.nth(k).check();
      await submit(page, {});
    } else if ((await page.locator(".entry.tag").count()) > 0) {
      await submit(page, { "#typed": "wrong" });
      await check(page, name("wrong tag"));
      await submit(page, { "#typed": "M1-C" });
    } else if ((await page.locator("#added").count()) === 0) {
      await submit(page, { "#typed": "0.0" });
    } else break;
  }
  await submit(page, { "#typed": "4.0", "#added": "0.05" });
  await check(page, name("far reading"));
  await page.click(".void summary");
  await check(page, name("void form open"));
  await page.goto(path);
  await page.locator("aside details").first().evaluate((details) => { details.open = true; });
  await Promise.all([page.waitForNavigation(), page.locator("table.kept a").first().click()]);
  await check(page, name("correction"));

  for (const [words, at] of [
    ["charts", "/charts"],
    ["chart", "/charts/1"],
    ["chart of a year", "/charts/1?range=year"],
    ["table", "/charts/1?view=table"],
    ["distribution", "/charts/1?view=distribution"],
    ["chart with another and a condition beside it", "/charts/17?with=18&trace=condition-1"],
    ["baseline study", "/charts/1/study"],
    ["baseline study with faults", "/charts/1/study?chosen=yes&from=x&limits=given&below=0"],
    ["signals", "/signals"],
    ["closed signals", "/signals?closed=true"],
    ["a signal", "/signals/1"],
    ["causes of signals", "/signal-causes"],
    ["wall", "/wall"],
    ["whose fault it is", "/culprit"],
    ["what will fail", "/forecasts"],
    ["how right the forecasts were", "/forecasts/score"],
    ["instruments", "/instruments"],
    ["an instrument", "/instruments/R-02"],
    ["standards", "/standards"],
    ["a standard", "/standards/M1-B"],
    ["a standard with a map of its places", "/standards/HB-60"],
    ["a standard by temperature", "/standards/HS-75"],
    ["an instrument with set-ups", "/instruments/P-21"],
    ["plans", "/plans"],
    ["a plan", "/plans/1"],
    ["a version", "/versions/8"],
    ["a paper sheet", "/versions/10/sheet"],
    ["entering from paper", "/versions/8/late"],
    ["people", "/people"],
    ["no such page", "/nothing"],
    ["verdict", "/checks/12/verdict"],
    ["records", "/records"],
    ["records, none", "/records?tag=none&from=soon"],
    ["the record of a check", "/checks/12/record"],
    ["missed checks", "/missed"],
    ["missed checks, no period", "/missed?from=soon"],
    ["what was brought in", "/import"],
    ["evidence", "/instruments/R-02/evidence"],
    ["labels", "/labels?area=Resin+kitchen"],
    ["notices", "/notices"],
    ["the audit trail", "/audit?verify=yes&chain=check:12"],
  ]) {
    await page.goto(base + at);
    await check(page, name(words));
  }
  // A failed check with everything opened, and what an adjustment would do.
  await page.goto(`${base}/records?verdict=fail`);
  const failedCheck = (await page.locator("tbody td a").first().getAttribute("href")).replace("/record", "");
  await page.goto(`${base}${failedCheck}/verdict`);
  for (const closed of await page.locator("main details").all()) await closed.evaluate((details) => { details.open = true; });
  await check(page, name("a failed verdict, opened"));
  await page.goto(`${base}${failedCheck}/adjust`);
  await check(page, name("adjust?"));

  await page.goto(`${base}/charts/1?view=table`);
  const point = await page.locator("table.points tbody a").first().getAttribute("href");
  await page.goto(base + point);
  await check(page, name("a point"));

  // What a lead and an administrator see, and a form that is refused.
  await signIn(page, "ilma", "tyyni-selka-3");
  for (const [words, at] of [
    ["a chart as a lead sees it", "/charts/3"],
    ["a baseline study as a lead sees it", "/charts/1/study"],
    ["the rules of a chart", "/charts/1/rules"],
    ["a signal as a lead sees it", "/signals/1"],
    ["causes as a lead sees them", "/signal-causes"],
    ["a new instrument", "/new/instrument"],
    ["a changed instrument", "/instruments/R-31/edit"],
    ["a new standard", "/new/standard"],
    ["a new lot", "/standards/GB-1/lot"],
    ["a new certificate", "/standards/M1-B/certificate"],
    ["found wrong", "/standards/PR-1/wrong"],
    ["crossover", "/standards/PR-1/crossover"],
    ["a standard as a lead sees it", "/standards/SR-2"],
    ["an instrument as a lead sees it", "/instruments/P-21"],
    ["a new plan", "/new/plan?instrument=P-12"],
    ["the editor of a gauge plan", "/plans/9/edit"],
    ["the editor of a weighing plan", "/plans/1/edit"],
    ["people as a lead sees them", "/people"],
    ["lines to instruments", "/links"],
    ["the line of an instrument", "/instruments/R-02/link"],
  ]) {
    await page.goto(base + at);
    await check(page, name(words));
  }
  await page.goto(`${base}/new/instrument`);
  await Promise.all([page.waitForNavigation(), page.click(".form-buttons .main-button")]);
  await check(page, name("a refused form"));
  for (const [words, text] of [
    ["a table that is fine", "instrument;point;measured at;error\nR-02;20;2025-11-03 06:12;2,5\n"],
    ["a table with faults", "instrument;point;measured at;error\nR-02;21;2025-11-03 06:12;x\n"],
  ]) {
    await page.goto(`${base}/import`);
    for (const closed of await page.locator("main details").all()) await closed.evaluate((details) => { details.open = true; });
    await check(page, name("bring in a table"));
    await page.check("input[value=history]");
    await page.setInputFiles("#table-file", { name: "before.csv", mimeType: "text/csv", buffer: Buffer.from(text) });
    await Promise.all([page.waitForNavigation(), page.click(".form-buttons .main-button")]);
    await check(page, name(words));
  }
  await signIn(page, "onni", "uusi-portti-6");
  await page.goto(`${base}/keys`);
  await page.fill("#key-name", `walk in ${colorScheme}`);
  await Promise.all([page.waitForNavigation(), page.click("main .main-button")]);
  await check(page, name("a key, shown once"));
  for (const at of ["/new/person", "/people/1", "/people", "/calendar", "/mail"]) {
    await page.goto(base + at);
    await check(page, name(at));
  }
  await context.close();
}
await browser.close();
console.log(failed === 0 ? `${seen} pages without violation` : `${failed} violations on ${seen} pages`);
process.exit(failed === 0 ? 0 : 1);
