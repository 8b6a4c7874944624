// Enhances markup that already works: every page can be used without this.
import { sendOnce } from "./once.js";
import { walkRound } from "./round.js";
import { typeAhead } from "./ahead.js";
import { runCheck } from "./check.js";
import { offerAlike, offerPicture, walkChart } from "./chart.js";
import { watchWall } from "./wall.js";
import { runClocks } from "./clocks.js";
import { offerPrinting } from "./print.js";
import { keepHeld, sendHeld } from "./held.js";
import { readLines } from "./capture.js";
import { readPlot, takeTraces } from "./trace.js";
import { lookAgain } from "./again.js";
import { follow } from "./follow.js";
import { showNeeded } from "./needs.js";

document.documentElement.dataset.scripts = "on";
sendOnce(document);

let life = new AbortController();

/** Wakes the page, and again each step that comes into it. */
function start() {
  life.abort();
  life = new AbortController();
  const { signal } = life;
  for (const table of document.querySelectorAll("[data-round]")) walkRound(table);
  const checks = document.querySelectorAll(".check[data-check]");
  for (const check of checks) {
    // Only a step of this check comes into the page; its verdict is a page of its own.
    const goOn = async (next) => (next === `/checks/${check.dataset.id}` ? follow(next, start) : window.location.assign(next));
    runCheck(check, signal);
    keepHeld(check, signal, goOn);
    typeAhead(check, signal);
    takeTraces(check, signal);
    readLines(check, signal);
  }
  if (checks.length === 0 && document.body.dataset.person) sendHeld();
  for (const chart of document.querySelectorAll("[data-chart]")) walkChart(chart);
  for (const part of document.querySelectorAll("[data-again]")) lookAgain(part);
  for (const box of document.querySelectorAll("[data-plot]")) readPlot(box);
  for (const form of document.querySelectorAll("[data-alike]")) offerAlike(form);
  for (const place of document.querySelectorAll("[data-picture]")) offerPicture(place);
  for (const wall of document.querySelectorAll("[data-wall]")) watchWall(wall);
  runClocks(document, signal);
  offerPrinting(document);
  showNeeded(document);
  // Where something is wrong the work goes on there.
  const focused = document.querySelector("[data-focus]") ?? document.querySelector("main [aria-invalid=true]");
  if (focused && document.activeElement === document.body) {
    focused.focus({ preventScroll: true });
    // In the middle, with what stands around it: a field at the edge of the window shows no words about it.
    const { top, bottom } = focused.getBoundingClientRect();
    if (top < 0 || bottom > window.innerHeight - 60) focused.scrollIntoView({ block: "center", behavior: "instant" });
  }
}
start();
// The page for the time without a network. Browsers give workers to safe connections only; elsewhere a check's own page
// asks before it follows a link.
if (document.body.dataset.person && "serviceWorker" in navigator) navigator.serviceWorker.register("/worker.js").catch(() => {});
