// A part of a page that tells of work which goes on: it is fetched again now and then. When the work is over the page shows
// what came of it, unless somebody is typing on it.
const isTyped = () =>
  [...document.querySelectorAll("main input:not([type=hidden]), main textarea")].some(
    (field) => field.type !== "radio" && field.type !== "checkbox" && field.value !== field.defaultValue,
  );

export function lookAgain(part) {
  const label = part.querySelector("progress").getAttribute("aria-label");
  const later = () => window.setTimeout(look, Number(part.dataset.again));
  async function look() {
    try {
      const answer = await fetch(window.location.href, { headers: { accept: "text/html" } });
      const page = new DOMParser().parseFromString(await answer.text(), "text/html");
      const bar = [...page.querySelectorAll("progress")].find((one) => one.getAttribute("aria-label") === label);
      const now = bar?.closest("section");
      const isOver = answer.ok && now?.dataset.again === undefined;
      if (isOver && !isTyped()) {
        window.location.replace(answer.url);
        return;
      }
      if (answer.ok && now) {
        part.className = now.className;
        part.innerHTML = now.innerHTML;
      }
      if (isOver) return;
    } catch {
      // The server did not answer: it is asked again.
    }
    later();
  }
  later();
}
