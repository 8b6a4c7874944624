// A field that means nothing yet is not shown: it names the other field and the values that give it a meaning.
export function showNeeded(root) {
  for (const part of root.querySelectorAll("[data-needs]")) {
    const [name, values] = part.dataset.needs.split("=");
    const other = part.closest("form").elements[name];
    if (!other) continue;
    const look = () => { part.hidden = !values.split("|").includes(other.value); };
    other.addEventListener("change", look);
    look();
  }
}
