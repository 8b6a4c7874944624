// What is typed after Enter and before the next step has come is typed at that step: nothing is lost while a page loads.
const KEY = "vaaka:ahead";
const LONGEST_MS = 15_000;

export function typeAhead(check, signal) {
  const place = () => check.querySelector("#typed");
  let text = "";

  /** Puts it where it belongs, once. Where the entry before it was refused, or nothing is typed here, it is told. */
  function fill() {
    const field = place();
    const kept = text;
    text = "";
    sessionStorage.removeItem(KEY);
    if (!kept) return;
    if (!field || field.value !== "") {
      const line = document.createElement("p");
      line.className = "soft";
      line.setAttribute("role", "status");
      line.textContent = `Typed meanwhile and not used: ${kept}`;
      check.querySelector("form.entry")?.prepend(line);
      return;
    }
    field.value = kept;
    field.focus();
    field.dispatchEvent(new Event("input", { bubbles: true }));
  }

  const before = JSON.parse(sessionStorage.getItem(KEY) ?? "null");
  if (before && before.check === check.dataset.id && Date.now() - before.at < LONGEST_MS) text = before.text;
  fill();

  document.addEventListener("keydown", (event) => {
    if (!check.querySelector("form.is-sending") || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Backspace") text = text.slice(0, -1);
    else if (event.key.length === 1 && text.length < 40) text += event.key;
    else return;
    event.preventDefault();
    event.stopPropagation();
    sessionStorage.setItem(KEY, JSON.stringify({ check: check.dataset.id, text, at: Date.now() }));
  }, { capture: true, signal });
  // With the network gone the next step is drawn in this page.
  document.addEventListener("vaaka:step", fill, { signal });
}
