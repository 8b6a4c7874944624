// A button that prints the page, where scripts run.
export function offerPrinting(root) {
  for (const button of root.querySelectorAll("[data-print]")) {
    button.hidden = false;
    button.addEventListener("click", () => window.print());
  }
}
