// What every browser script shares: the system's Chromium and a signed-in page.
import { chromium } from "playwright-core";

export const base = process.env.VAAKA_BASE_URL ?? "http://127.0.0.1:8300";

export async function launch() {
  return chromium.launch({
    executablePath: process.env.VAAKA_CHROMIUM ?? "/usr/bin/chromium",
    args: [
      "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
      "--disable-background-networking", "--disable-component-update", "--disable-sync",
    ],
  });
}

export async function signIn(page, name = "aino", password = "kapea-silta-4") {
  await page.goto(`${base}/sign-in`);
  await page.fill("#name", name);
  await page.fill("#password", password);
  await Promise.all([page.waitForURL(`${base}/`), page.press("#password", "Enter")]);
}
