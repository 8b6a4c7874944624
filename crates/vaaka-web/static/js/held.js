// With the network gone, an entry is kept on this device, marked so, and sent when the network is
// back, in its order and in the name of who read it. The server rules on what arrives.
const STORE = "vaaka.held";
const TRY_AGAIN_MS = 4000;
const PATIENCE_MS = 8000;

export function heldEntries() {
  try {
    const held = JSON.parse(localStorage.getItem(STORE) ?? "[]");
    return Array.isArray(held) ? held : [];
  } catch {
    return [];
  }
}

function store(held) {
  localStorage.setItem(STORE, JSON.stringify(held));
}

const me = () => document.body.dataset.person ?? "";
const mine = () => heldEntries().filter((entry) => entry.person === me());

// The newest token of this session: an entry may outlive the page that it was typed on.
function token() {
  return document.querySelector("input[name=form_token]")?.value ?? "";
}

async function send(entry) {
  const body = new URLSearchParams(entry.fields);
  body.set("form_token", token());
  if (entry.at) {
    body.set("age_ms", String(Math.max(0, Date.now() - entry.at)));
    body.set("read_by", entry.person);
  }
  const answer = await fetch(`/checks/${entry.check}/entries`, {
    method: "POST",
    headers: { Accept: "application/json" },
    body,
    signal: AbortSignal.timeout(PATIENCE_MS),
  });
  // A server that is there but cannot reach its database is as good as gone.
  if (answer.status >= 500) throw new Error("not now");
  const type = answer.headers.get("content-type") ?? "";
  if (!type.startsWith("application/json")) return { state: "refused", words: "The server did not take it." };
  return answer.json();
}

let sending = false;

// Sends what is held, oldest first; stops at the first that does not go through.
export async function flush(after) {
  if (sending) return;
  sending = true;
  let sent = 0;
  let stopped = null;
  try {
    for (const entry of mine()) {
      const answer = await send(entry);
      if (answer.state !== "kept") {
        stopped = { entry, answer };
        break;
      }
      store(heldEntries().filter((one) => one.fields.key !== entry.fields.key));
      sent += 1;
    }
  } catch {
    // Still gone: it is tried again.
  } finally {
    sending = false;
  }
  after({ sent, stopped, left: mine().length });
}

export function showNote() {
  const note = document.querySelector("[data-held-note]");
  if (!note) return;
  const all = heldEntries();
  const own = all.filter((entry) => entry.person === me()).length;
  const others = all.length - own;
  const words = [];
  if (own > 0) words.push(`${own} ${own === 1 ? "entry is" : "entries are"} kept on this device and not sent yet.`);
  if (others > 0) words.push(`${others} more of somebody else: sent when they sign in here.`);
  note.textContent = words.join(" ");
  note.hidden = words.length === 0;
  if (own > 0) {
    const way = document.createElement("a");
    way.href = `/checks/${mine()[0].check}`;
    way.textContent = "See the check";
    note.append(" ", way);
  }
}

const number = (text) => Number(text.trim().replace(",", ".").replace("\u2212", "-"));

// A provisional question only: far from the point, as the server would ask. The answer is about the value that was asked
// about; another one is asked about anew, and the one typed first is sent along, for the record.
function far(form) {
  const { expected, guard, question } = form.dataset;
  if (expected === undefined) return null;
  const text = form.querySelector("[name=typed]").value;
  const typed = number(text);
  if (!Number.isFinite(typed) || text.trim() === "") return "Type a number, digits with one comma or point.";
  if (form.dataset.asked !== undefined && number(form.dataset.asked) !== typed) form.dataset.attempted = form.dataset.asked;
  if (Math.abs(typed - Number(expected)) <= Number(guard)) return null;
  if (form.dataset.asked !== undefined && number(form.dataset.asked) === typed) return null;
  form.dataset.asked = text;
  return `${question} ${text.trim()} was typed. If the display really shows this, press Enter once more.`;
}

export function keepHeld(check) {
  const panel = check.querySelector("[data-held]");
  const list = check.querySelector("[data-held-list]");
  const refused = check.querySelector("[data-held-refused]");
  const buttons = check.querySelector("[data-held-buttons]");
  const place = check.querySelector(".step");
  const ahead = [...check.querySelectorAll("template[data-ahead]")];
  const id = check.dataset.id;
  let gone = false;

  const ofCheck = () => mine().filter((entry) => entry.check === id);

  function draw() {
    const held = ofCheck();
    panel.hidden = held.length === 0;
    list.replaceChildren(
      ...held.map((entry) => {
        const line = document.createElement("li");
        const time = new Date(entry.at).toTimeString().slice(0, 5);
        const typed = [entry.fields.typed, entry.fields.added].filter(Boolean).join(" + ");
        line.textContent = `${entry.title}: ${typed || "ticked"} (${time})`;
        return line;
      }),
    );
    showNote();
  }

  function say(words) {
    refused.textContent = words;
    refused.hidden = words === "";
    buttons.hidden = words === "";
  }

  // The way goes on: what was now is kept on the device, and the next bead is now.
  function moveBead(title) {
    const beads = [...check.querySelectorAll(".way li")];
    const now = beads.findIndex((bead) => bead.dataset.title === title);
    beads.forEach((bead, index) => {
      bead.classList.toggle("now", index === now);
      if (index === now) bead.setAttribute("aria-current", "step");
      else bead.removeAttribute("aria-current");
    });
  }

  function showNext() {
    const next = ahead.shift();
    const after = place.querySelectorAll("h1, .detail, .scene-box, form.entry, .beam-box, .notice, .bound");
    for (const old of after) old.remove();
    if (next) {
      const step = next.content.cloneNode(true);
      const standard = step.querySelector("[data-standard]");
      check.querySelector(".beside-check > [data-standard]")?.replaceWith(standard);
      place.prepend(step);
      moveBead(next.dataset.ahead);
    } else {
      const words = document.createElement("h1");
      words.textContent = "Kept on this device";
      const detail = document.createElement("p");
      detail.className = "detail";
      detail.textContent =
        "The next step needs the server. It goes on by itself when the network is back; you may leave this page open, or close it: nothing is lost.";
      place.prepend(words, detail);
    }
    const field = place.querySelector("input:not([type=hidden]), button");
    field?.focus();
  }

  function hold(form) {
    const fields = Object.fromEntries(new FormData(form));
    delete fields.form_token;
    if (form.dataset.asked !== undefined) fields.confirm_far = form.dataset.asked;
    if (form.dataset.attempted !== undefined) fields.attempted = form.dataset.attempted;
    const entry = { check: id, person: me(), title: form.dataset.title ?? "", at: Date.now(), fields };
    try {
      store([...heldEntries(), entry]);
    } catch {
      say("This device has no room to keep it. Write it down, and enter it when the network is back.");
      return;
    }
    gone = true;
    draw();
    showNext();
  }

  function ended({ sent, stopped, left }) {
    draw();
    if (stopped && stopped.entry.check === id) {
      const typed = stopped.entry.fields.typed ?? "";
      say(`Not taken: ${stopped.entry.title}${typed ? ` “${typed}”` : ""}. ${stopped.answer.words}`);
      return;
    }
    if (left === 0 && sent > 0 && gone) window.location.reload();
  }

  check.addEventListener("submit", (event) => {
    const form = event.target;
    if (!form.matches("form.entry") || form.querySelector("[name=replaces]")) return;
    // A button that says yes to the guard's question goes the plain way.
    if (event.submitter?.name === "confirm_far") return;
    event.preventDefault();
    event.stopPropagation();
    // A second Enter while the first is on its way sends nothing.
    if (form.dataset.sent) return;
    if (gone || ofCheck().length > 0) {
      if (form.querySelector("[name=typed]")) {
        const words = far(form);
        if (words) {
          let line = form.querySelector(".field-error");
          if (!line) {
            line = document.createElement("p");
            line.className = "field-error";
            line.setAttribute("role", "alert");
            form.append(line);
          }
          line.textContent = words;
          return;
        }
      }
      hold(form);
      return;
    }
    form.dataset.sent = "yes";
    form.classList.add("is-sending");
    const fields = Object.fromEntries(new FormData(form));
    send({ check: id, person: me(), fields })
      .then((answer) => {
        if (answer.state === "kept") window.location.assign(answer.next);
        // Refused, or signed out: the server's own page says so, with what was typed.
        else form.submit();
      })
      .catch(() => hold(form));
  });

  check.querySelector("[data-held-drop]")?.addEventListener("click", () => {
    store(heldEntries().filter((entry) => entry.check !== id || entry.person !== me()));
    window.location.assign(`/checks/${id}`);
  });

  const retry = () => {
    if (mine().length > 0) flush(ended);
  };
  draw();
  if (ofCheck().length > 0) {
    gone = true;
    retry();
  }
  window.addEventListener("online", retry);
  window.setInterval(retry, TRY_AGAIN_MS);
}

// On every other page: what is held goes out as soon as it can.
export function sendHeld() {
  showNote();
  const retry = () => {
    if (mine().length > 0) flush(showNote);
  };
  retry();
  window.addEventListener("online", retry);
  window.setInterval(retry, TRY_AGAIN_MS);
}
