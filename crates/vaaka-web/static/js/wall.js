// A wall that is open hears of new points and fetches its cards again. News that come close together are
// answered once, and where the line is lost the browser asks again by itself.
const PAUSE = 400;

export function watchWall(wall) {
  const state = document.querySelector("[data-wall-state]");
  const say = (words) => {
    if (state) state.textContent = words;
  };
  let waiting = null;
  let running = false;
  let again = false;

  async function refresh() {
    if (running) {
      again = true;
      return;
    }
    running = true;
    try {
      const answer = await fetch(wall.dataset.wall, { headers: { accept: "text/html" } });
      if (answer.redirected || !answer.ok) throw new Error("no cards");
      const focused = document.activeElement?.closest("[data-chart-card]")?.dataset.chartCard;
      wall.innerHTML = await answer.text();
      if (focused) wall.querySelector(`[data-chart-card="${CSS.escape(focused)}"] a`)?.focus();
      say("Live: it changes when a check is submitted at any bench.");
    } catch {
      say("The server did not answer; this is what it said last. It is asked again.");
    }
    running = false;
    if (again) {
      again = false;
      later();
    }
  }

  function later() {
    clearTimeout(waiting);
    waiting = setTimeout(refresh, PAUSE);
  }

  const events = new EventSource(wall.dataset.wallEvents);
  events.addEventListener("open", () => say("Live: it changes when a check is submitted at any bench."));
  events.addEventListener("error", () => say("The line is lost; it is opened again."));
  events.addEventListener("chart", (event) => {
    const all = location.search === "" || event.data === "all";
    // On the wall of one area only its own charts matter; a new one comes with the next of them.
    if (all || wall.querySelector(`[data-chart-card="${CSS.escape(event.data)}"]`)) later();
  });
}
