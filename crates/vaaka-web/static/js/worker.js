// Answers for the application where the network does not: one page that says so, instead of the browser's own. Nothing
// of a person is kept here; what was measured lies with the page, under the name of who read it.
const SHELL = "vaaka-shell-ASSETS";
const FILES = ["/offline", "ASSETS/css/vaaka.css", "ASSETS/css/pages.css", "ASSETS/vendor/bootstrap/bootstrap.min.css",
  "ASSETS/mark.svg", "ASSETS/js/offline.js", "ASSETS/js/held.js", "ASSETS/js/local.js"];

self.addEventListener("install", (event) => {
  const kept = caches.open(SHELL).then((cache) => cache.addAll(FILES));
  event.waitUntil(kept.then(() => self.skipWaiting()));
});

self.addEventListener("activate", (event) => {
  const others = caches.keys().then((names) => Promise.all(names.filter((name) => name !== SHELL).map((name) => caches.delete(name))));
  event.waitUntil(others.then(() => self.clients.claim()));
});

self.addEventListener("fetch", (event) => {
  const { request } = event;
  if (request.method !== "GET") return;
  if (request.mode === "navigate") {
    event.respondWith(fetch(request).catch(() => caches.match("/offline")));
  } else if (new URL(request.url).pathname.startsWith("/assets/")) {
    event.respondWith(fetch(request).catch(async () => (await caches.match(request)) ?? Response.error()));
  }
});
