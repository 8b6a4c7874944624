// Counts down the times that the server keeps. The device's own clock is never trusted: only
// the seconds left, as the server gave them, are counted from when the page came.
export function runClocks(root, signal) {
  const clocks = [...root.querySelectorAll("[data-left]")].map((place) => ({
    place,
    shown: place.querySelector("[data-clock]"),
    left: Number(place.dataset.left),
  }));
  if (clocks.length === 0) return;
  const began = performance.now();

  const words = (seconds) => {
    const pad = (n) => String(n).padStart(2, "0");
    const minutes = Math.floor(seconds / 60);
    if (minutes < 60) return `${minutes}:${pad(seconds % 60)}`;
    return `${Math.floor(minutes / 60)} h ${pad(minutes % 60)} min`;
  };
  const tick = () => {
    const gone = (performance.now() - began) / 1000;
    for (const clock of clocks) {
      const left = Math.max(0, Math.ceil(clock.left - gone));
      clock.shown.textContent = left > 0 ? words(left) : "time is up";
      clock.place.classList.toggle("is-up", left === 0);
    }
  };
  tick();
  const beat = window.setInterval(tick, 500);
  signal.addEventListener("abort", () => window.clearInterval(beat));
}
