// A second click while a form is on its way sends nothing; the server would take it once anyway.
export function sendOnce(root) {
  root.addEventListener("submit", (event) => {
    const form = event.target;
    if (!form.matches("[data-once]")) return;
    if (form.dataset.sent) {
      event.preventDefault();
      return;
    }
    form.dataset.sent = "yes";
    form.classList.add("is-sending");
  });
  // Coming back with the browser's own Back shows the page as it was: let it be sent again.
  window.addEventListener("pageshow", (event) => {
    if (!event.persisted) return;
    for (const form of root.querySelectorAll("form[data-sent]")) {
      delete form.dataset.sent;
      form.classList.remove("is-sending");
    }
  });
}
