// A part of a page that tells of work which goes on: it is fetched again now and then, until it says that it is over.
export function lookAgain(part) {
  const later = () => window.setTimeout(look, Number(part.dataset.again));
  async function look() {
    try {
      const answer = await fetch(window.location.href, { headers: { accept: "text/html" } });
      const page = new DOMParser().parseFromString(await answer.text(), "text/html");
      const now = page.querySelector("[aria-label='Checks evaluated again']")?.closest("section");
      if (answer.ok && now) {
        part.className = now.className;
        part.innerHTML = now.innerHTML;
        if (now.dataset.again === undefined) return;
      }
    } catch {
      // The server did not answer: it is asked again.
    }
    later();
  }
  later();
}
