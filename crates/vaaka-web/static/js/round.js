// Up and down choose a check, Enter starts it, C opens its chart.
export function walkRound(table) {
  const rows = [...table.tBodies[0].rows];
  let chosen = Math.max(0, rows.findIndex((row) => "chosen" in row.dataset));

  function choose(index) {
    rows[chosen]?.classList.remove("chosen");
    chosen = Math.min(rows.length - 1, Math.max(0, index));
    const row = rows[chosen];
    row.classList.add("chosen");
    row.querySelector(".do button, .do a")?.focus();
    row.scrollIntoView({ block: "nearest" });
  }

  document.addEventListener("keydown", (event) => {
    if (event.defaultPrevented || event.ctrlKey || event.altKey || event.metaKey) return;
    const typing = event.target.closest("input, select, textarea, details[open]");
    if (typing || rows.length === 0) return;
    const onControl = event.target.closest("a, button, summary");
    // What is chosen is seen before a key is pressed: down goes on from there.
    if (event.key === "ArrowDown") choose(rows[chosen].classList.contains("chosen") ? chosen + 1 : chosen);
    else if (event.key === "ArrowUp") choose(chosen - 1);
    else if (event.key === "Enter" && !onControl) rows[chosen].querySelector(".do button, .do a")?.click();
    else if (event.key.toLowerCase() === "c") rows[chosen].querySelector(".beam-cell a")?.click();
    else return;
    event.preventDefault();
  });
}
