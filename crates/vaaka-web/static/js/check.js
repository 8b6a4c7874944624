// Keys of a check: Enter ticks and moves on, Esc steps back, F8 opens the form that voids.
export function runCheck(check, signal) {
  // Looked up each time: with the network gone the step changes without a new page.
  const ticks = () => [...check.querySelectorAll(".ticks input[type=checkbox]")];
  const main = () => check.querySelector("#typed") ?? [...check.querySelectorAll("[data-row] input[name=typed]")].find((one) => one.value === "") ?? null;
  const field = main();
  // What stands in the field is what was refused or lost: typing on replaces it at once.
  // Selecting takes the focus along: not from a field that is asked about.
  const asked = check.querySelector("form.entry [autofocus]");
  if (field && field.value && (!asked || asked === field)) field.select();

  check.addEventListener("keydown", (event) => {
    const boxes = ticks();
    const field = main();
    const index = boxes.indexOf(event.target);
    if (event.key === "Enter" && index >= 0) {
      event.preventDefault();
      event.target.checked = true;
      const open = boxes.find((box) => !box.checked);
      if (open) open.focus();
      else event.target.form.requestSubmit();
    }
    // Several values on one screen: Enter goes to the next that is open, and behind the last it keeps them.
    const row = event.target.closest?.("[data-row]");
    if (event.key === "Enter" && row && event.target.name === "typed") {
      const rows = [...check.querySelectorAll("[data-row]")];
      const open = [...rows.slice(rows.indexOf(row) + 1), ...rows].map((one) => one.querySelector("[name=typed]"));
      const next = open.find((one) => one !== event.target && one.value.trim() === "");
      event.preventDefault();
      if (next) next.focus();
      else event.target.form.requestSubmit(event.target.form.querySelector(".main-button"));
    }
    // With two fields, Enter in the first goes to the second.
    const added = check.querySelector("#added");
    if (event.key === "Enter" && event.target === field && added && !added.value) {
      event.preventDefault();
      added.focus();
    }
  });

  document.addEventListener("keydown", (event) => {
    // Somebody who types the number without looking where the focus is means the field: after a
    // click beside it, and before the browser has set the focus on a page that has just come.
    const elsewhere = document.activeElement === document.body || document.activeElement === null;
    const boxes = ticks();
    const field = main();
    if (elsewhere && !event.ctrlKey && !event.metaKey && !event.altKey) {
      if (field && /^[0-9A-Za-z.,+\-\u2212]$/.test(event.key)) field.focus();
      if (event.key === "Enter") {
        event.preventDefault();
        if (boxes.length > 0) (boxes.find((box) => !box.checked) ?? boxes[0]).focus();
        else if (field) field.focus();
      }
    }
    if (event.key === "Escape" && check.dataset.stepBack) {
      event.preventDefault();
      document.dispatchEvent(new CustomEvent("vaaka:leave", { detail: check.dataset.stepBack }));
    }
    if (event.key === "F8") {
      event.preventDefault();
      const box = check.querySelector("[data-void]");
      box.open = true;
      box.querySelector("select").focus();
    }
  }, { signal });
}
