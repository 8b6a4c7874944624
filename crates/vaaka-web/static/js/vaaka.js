// Enhances markup that already works: every page can be used without this.
import { sendOnce } from "./once.js";
import { walkRound } from "./round.js";
import { runCheck } from "./check.js";
import { walkChart } from "./chart.js";
import { runClocks } from "./clocks.js";

document.documentElement.dataset.scripts = "on";
sendOnce(document);
for (const table of document.querySelectorAll("[data-round]")) walkRound(table);
for (const check of document.querySelectorAll("[data-check]")) runCheck(check);
for (const chart of document.querySelectorAll("[data-chart]")) walkChart(chart);
runClocks(document);
const focused = document.querySelector("[data-focus]");
if (focused && document.activeElement === document.body) focused.focus();
