// Hover and arrow keys show the record of a check; Enter opens its verdict.
export function walkChart(sheet) {
  const points = [...sheet.querySelectorAll(".point")];
  const record = sheet.querySelector("[data-record]");
  let picked = -1;

  function pick(index) {
    if (points.length === 0) return;
    points[picked]?.classList.remove("picked");
    picked = Math.min(points.length - 1, Math.max(0, index));
    const point = points[picked];
    point.classList.add("picked");
    record.textContent = point.dataset.label;
    record.classList.add("says");
  }

  function open() {
    if (picked >= 0) window.location.assign(`/checks/${points[picked].dataset.check}/verdict`);
  }

  // The nearest point to the pointer, so that small marks need no aim.
  sheet.querySelector("svg")?.addEventListener("pointermove", (event) => {
    let best = -1;
    let least = 900;
    points.forEach((point, index) => {
      const box = point.getBoundingClientRect();
      const dx = box.x + box.width / 2 - event.clientX;
      const dy = box.y + box.height / 2 - event.clientY;
      const distance = dx * dx + dy * dy;
      if (distance < least) {
        least = distance;
        best = index;
      }
    });
    if (best >= 0 && best !== picked) pick(best);
  });
  sheet.addEventListener("click", (event) => {
    const point = event.target.closest(".point");
    if (point) {
      pick(points.indexOf(point));
      open();
    }
  });
  sheet.addEventListener("keydown", (event) => {
    const last = points.length - 1;
    const from = picked < 0 ? last + 1 : picked;
    const steps = { ArrowLeft: from - 1, ArrowRight: from + 1, PageUp: from - 10, PageDown: from + 10, Home: 0, End: last };
    if (event.key in steps) {
      event.preventDefault();
      pick(steps[event.key]);
    } else if (event.key === "Enter") {
      open();
    }
  });
}
