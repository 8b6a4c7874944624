// The next step comes into the page that is open: between two readings no page is loaded, and the focus is where the work
// goes on.
const PATIENCE_MS = 8000;

// What a reader of the screen hears when a step has come; it outlives the page around it.
const said = document.createElement("p");
said.className = "visually-hidden";
said.setAttribute("role", "status");

const programOf = (page) => page.querySelector("script[type=module]")?.getAttribute("src");

/** Puts the step at `address` in place of this one; `start` wakes what is on it. What is no step is loaded as a page. */
export async function follow(address, start) {
  const answer = await fetch(address, { headers: { Accept: "text/html" }, signal: AbortSignal.timeout(PATIENCE_MS) });
  if (answer.status >= 500) throw new Error("not now");
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  // Another person at the keys, or another version of the application, wakes on a page of its own.
  const same = page.body.dataset.person === document.body.dataset.person && programOf(page) === programOf(document);
  if (!answer.ok || !same || page.querySelector(".check[data-check]") === null) {
    window.location.assign(address);
    return;
  }
  document.title = page.title;
  document.body.replaceChildren(said, ...page.body.childNodes);
  window.scrollTo({ top: 0, behavior: "instant" });
  document.querySelector("[autofocus]")?.focus({ preventScroll: true });
  start();
  said.textContent = document.querySelector("main h1")?.textContent ?? "";
  // Last: whoever waits for the next step finds it awake.
  window.history.replaceState(null, "", answer.url);
}
