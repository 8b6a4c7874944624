// The page that stands where the network does not reach: what is kept on this device, and back by itself.
import { heldEntries, inWords, reaches } from "./held.js";

const TRY_AGAIN_MS = 4000;
const held = heldEntries();
const note = document.querySelector("[data-held]");
if (held.length > 0) {
  note.hidden = false;
  note.querySelector("[data-held-list]").replaceChildren(
    ...held.map((entry) => {
      const line = document.createElement("li");
      line.textContent = inWords(entry);
      return line;
    }),
  );
}
// The address is still the one that was wanted.
async function again() {
  if (await reaches()) window.location.reload();
}
document.querySelector("[data-again]").addEventListener("click", again);
window.addEventListener("online", again);
window.setInterval(again, TRY_AGAIN_MS);
