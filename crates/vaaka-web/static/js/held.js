// With the network gone, an entry is kept on this device, marked so, and sent when the network is
// back, in its order and in the name of who read it. The server rules on what arrives.
import { ask, attempts, typedIn } from "./local.js";
import { chosenFile, dropFile, putFile, takeFile } from "./trace.js";

const STORE = "vaaka.held";
const TRY_AGAIN_MS = 4000;
const PATIENCE_MS = 8000;
const FILE_PATIENCE_MS = 60000;

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

// An entry in words, with the time at which it was read.
export function inWords(entry) {
  return `${named(entry)} (${new Date(entry.at).toTimeString().slice(0, 5)})`;
}

function named(entry) {
  const typed = entry.file ?? [entry.fields.typed, entry.fields.added].filter(Boolean).join(" + ").slice(0, 60);
  return `${entry.title}: ${typed || "ticked"}`;
}

const me = () => document.body.dataset.person ?? "";
const mine = () => heldEntries().filter((entry) => entry.person === me());

// The newest token of this session: an entry may outlive the page that it was typed on.
function token() {
  return document.querySelector("input[name=form_token]")?.value ?? "";
}

async function send(entry, file) {
  // A file that is held lies beside its entry.
  const chosen = file ?? (entry.file === undefined ? null : await takeFile(entry.fields.key));
  const body = chosen ? new FormData() : new URLSearchParams(entry.fields);
  if (chosen) {
    for (const [name, value] of Object.entries(entry.fields)) body.set(name, value);
    body.set("file", chosen instanceof Blob ? chosen : chosen.content, chosen.name);
  }
  body.set("form_token", token());
  if (entry.at) {
    body.set("age_ms", String(Math.max(0, Date.now() - entry.at)));
    body.set("read_by", entry.person);
  }
  const answer = await fetch(`/checks/${entry.check}/entries`, {
    method: "POST",
    headers: { Accept: "application/json" },
    body,
    signal: AbortSignal.timeout(chosen ? FILE_PATIENCE_MS : PATIENCE_MS),
  });
  // A server that is there but cannot reach its database is as good as gone.
  if (answer.status >= 500) throw new Error("not now");
  const type = answer.headers.get("content-type") ?? "";
  if (!type.startsWith("application/json")) return { state: "refused", words: "The server did not take it." };
  return answer.json();
}

let sending = false;

// Sends what is held, oldest first. What the server does not take stays, with its words, and what follows it in the same
// check waits behind it until a person has looked; other checks go on.
export async function flush(after) {
  if (sending) return;
  sending = true;
  let sent = 0;
  let refused = null;
  const waiting = new Set();
  try {
    for (const entry of mine()) {
      if (waiting.has(entry.check)) continue;
      if (entry.refused && entry.fields.given_up === undefined) {
        waiting.add(entry.check);
        continue;
      }
      const answer = await send(entry);
      if (answer.state === "kept") {
        store(heldEntries().filter((one) => one.fields.key !== entry.fields.key));
        if (entry.file !== undefined) await dropFile(entry.fields.key);
        sent += 1;
      } else if (answer.state === "signed_out") {
        refused = { entry, words: answer.words };
        break;
      } else {
        change(entry, { refused: answer.words });
        refused = { entry, words: answer.words };
        waiting.add(entry.check);
      }
    }
  } catch {
    // Still gone: it is tried again.
  } finally {
    sending = false;
  }
  after({ sent, refused, left: mine().length });
}

function change(entry, to) {
  store(heldEntries().map((one) => (one.fields.key === entry.fields.key ? { ...one, ...to } : one)));
}

export function showNote() {
  const note = document.querySelector("[data-held-note]");
  if (!note) return;
  const all = heldEntries();
  const own = all.filter((entry) => entry.person === me()).length;
  const others = all.length - own;
  const words = [];
  if (own > 0) words.push(`${own} ${own === 1 ? "entry is" : "entries are"} kept on this device and not sent yet.`);
  const refused = all.filter((entry) => entry.person === me() && entry.refused).length;
  if (refused > 0) words.push(`${refused} of them ${refused === 1 ? "was" : "were"} not taken: look at ${refused === 1 ? "it" : "them"}.`);
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

// A name for an entry, also where the page came over a connection that browsers call unsafe.
function newKey() {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = (bytes[6] & 0x0f) | 0x40;
  bytes[8] = (bytes[8] & 0x3f) | 0x80;
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
}

// Whether the server answers, asked shortly: a link followed into nothing is the browser's own page of errors.
export async function reaches() {
  try {
    const answer = await fetch("/health", { cache: "no-store", signal: AbortSignal.timeout(2000) });
    return answer.status < 500;
  } catch {
    return false;
  }
}

// What stands in a form, its file left out.
function fieldsOf(form) {
  return Object.fromEntries([...new FormData(form)].filter(([, value]) => typeof value === "string"));
}

/** `goOn` leads to the step that follows; `signal` ends what this page listens to. */
export function keepHeld(check, signal, goOn) {
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
    const bad = held.find((entry) => entry.refused);
    list.replaceChildren(
      ...held.map((entry) => {
        const line = document.createElement("li");
        const state = entry === bad ? " \u2013 not taken" : bad ? " \u2013 waits behind it" : "";
        line.textContent = `${inWords(entry)}${state}`;
        return line;
      }),
    );
    say(bad ? `Not taken: ${named(bad)}. ${bad.refused}` : "");
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

  // `where` the entry before it was kept: on the device, or by the server, which cannot be asked for what follows.
  function showNext(where = "Kept on this device") {
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
      words.textContent = where;
      const detail = document.createElement("p");
      detail.className = "detail";
      detail.textContent =
        "The next step needs the server. It goes on by itself when the network is back; you may leave this page open, or close it: nothing is lost.";
      place.prepend(words, detail);
    }
    const field = place.querySelector("input:not([type=hidden]), button");
    field?.focus();
  }

  // Words at the form; the person reads them and types again.
  function tell(form, { words, field }) {
    let line = form.querySelector(".field-error[data-local]");
    if (!line) {
      line = document.createElement("p");
      line.className = "field-error";
      line.dataset.local = "";
      line.setAttribute("role", "alert");
      form.append(line);
    }
    line.textContent = words;
    const at = field ?? form.querySelector("[name=typed]");
    at?.focus();
    if (at?.select) at.select();
  }

  // Kept on the device once the step has nothing to ask any more.
  async function hold(form) {
    // A second Enter while a file is being laid down holds nothing twice.
    if (form.dataset.holding) return;
    const question = ask(form);
    if (question) {
      tell(form, question);
      return;
    }
    const fields = fieldsOf(form);
    delete fields.form_token;
    if (form.dataset.asked !== undefined) fields.confirm_far = form.dataset.asked;
    const before = attempts(form);
    if (before.length > 0) fields.attempted = before.join("\n");
    const entry = { check: id, person: me(), title: form.dataset.title ?? "", at: Date.now(), fields };
    const file = chosenFile(form);
    try {
      if (file) {
        form.dataset.holding = "yes";
        await putFile(fields.key, file);
        entry.file = file.name;
      }
      store([...heldEntries(), entry]);
    } catch {
      delete form.dataset.holding;
      say("This device has no room to keep it. Write it down, and enter it when the network is back.");
      return;
    }
    draw();
    showNext();
  }

  // Several values on one screen: each is asked by itself, and all of them are held as entries of their own.
  function holdRows(form) {
    // What is found wrong here goes along with the entry that is held, and with no form: the network may be back before it is
    // set right, and how it was found stays on record all the same.
    gone = true;
    const rows = [...form.querySelectorAll("[data-row]")];
    const questions = rows.map((row) => {
      row.querySelector(".field-error")?.remove();
      return ask(row);
    });
    const first = questions.findIndex((question) => question !== null);
    if (first >= 0) {
      questions.forEach((question, index) => question && tell(rows[index], question));
      rows[first].querySelector("[name=typed]").focus();
      return;
    }
    const at = Date.now();
    const entries = rows.map((row) => {
      const [step, key] = ["step", "key"].map((name) => row.querySelector(`[name=${name}]`).value);
      const fields = { step, repeat: "1", key, typed: typedIn(row) };
      const before = attempts(row);
      if (before.length > 0) fields.attempted = before.join("\n");
      // It was asked about, and typed once more.
      if (row.dataset.asked !== undefined) fields.confirm_far = row.dataset.asked;
      return { check: id, person: me(), title: row.dataset.title, at, fields };
    });
    try {
      store([...heldEntries(), ...entries]);
    } catch {
      say("This device has no room to keep it. Write it down, and enter it when the network is back.");
      return;
    }
    draw();
    showNext();
    document.dispatchEvent(new CustomEvent("vaaka:step"));
  }

  // The server takes them all at once; with the network gone they wait here.
  async function sendRows(form, by) {
    const plain = () => {
      form.dataset.reached = "yes";
      form.requestSubmit(by);
    };
    if (by?.name === "fill") {
      await leave(plain);
      return;
    }
    const waits = ofCheck().some((entry) => !entry.refused);
    if (!gone && !waits && (await reaches())) plain();
    else holdRows(form);
  }

  // Whether something is just being typed: no page is taken from under it.
  function isBusy() {
    const rows = [...place.querySelectorAll("[data-row]")];
    if (rows.length > 0) return rows.some((row) => typedIn(row).trim() !== "");
    const field = place.querySelector("[name=typed]");
    return field !== null && typedIn(field.form).trim() !== "";
  }

  function ended({ sent, refused: answered, left }) {
    draw();
    const busy = isBusy();
    if (answered && answered.entry.check === id) {
      if (!ofCheck().some((entry) => entry.refused)) {
        // Signed out meanwhile: nothing is wrong with the entry, so that there is nothing to decide about it.
        say(answered.words);
        buttons.hidden = true;
      }
      // The step as the server has it stands beside what was not taken; what is just being typed is not thrown away.
      else if (gone && !busy) window.location.assign(`/checks/${id}`);
      return;
    }
    if (left === 0 && sent > 0 && gone) window.location.assign(`/checks/${id}`);
  }

  check.addEventListener("submit", (event) => {
    const form = event.target;
    if (!form.matches("form.entry") || form.querySelector("[name=replaces]")) return;
    // A button that says yes to the guard's question goes the plain way.
    if (event.submitter?.name === "confirm_far") return;
    if (form.dataset.reached) return;
    event.preventDefault();
    event.stopPropagation();
    if (form.matches(".values")) {
      sendRows(form, event.submitter);
      return;
    }
    // A second Enter while the first is on its way sends nothing.
    if (form.dataset.sent) return;
    // Beside what was refused the page shows the step as the server has it: that goes there, not behind the refused one.
    const held = ofCheck();
    if (gone || (held.length > 0 && !held.some((entry) => entry.refused))) {
      hold(form);
      return;
    }
    const file = chosenFile(form);
    // What a file would be refused for at once is said here: nobody waits for 50 MB to be sent for nothing.
    const question = form.matches(".trace") ? ask(form) : null;
    if (question) {
      tell(form, question);
      return;
    }
    form.dataset.sent = "yes";
    form.classList.add("is-sending");
    const fields = fieldsOf(form);
    // What was tried while the network was gone goes along, and stays on record whatever becomes of this.
    const tried = attempts(form);
    if (tried.length > 0) fields.attempted = tried.join("\n");
    send({ check: id, person: me(), fields }, file)
      .then((answer) => {
        // Kept by the server, whatever becomes of the page that would follow: with the network gone the way goes on here.
        if (answer.state === "kept") goOn(answer.next).catch(() => withoutNetwork(answer.next));
        // A page that came anew would have lost the file: what is wrong with it is said at its place.
        else if (file && answer.state === "refused") refuse(form, answer);
        // Refused, or signed out: the server's own page says so, with what was typed.
        else form.submit();
      })
      .catch(() => {
        gone = true;
        delete form.dataset.sent;
        form.classList.remove("is-sending");
        const before = typedIn(form);
        hold(form).then(() => document.dispatchEvent(new CustomEvent("vaaka:step")));
        // Another value after this is another entry, and the same value the same one: the first may have arrived all the same.
        const key = form.querySelector("[name=key]");
        const first = key?.value;
        form.addEventListener("input", (typing) => {
          if (typing.target.name === "typed") key.value = typedIn(form) === before ? first : newKey();
        });
      });
  });

  // The server kept the entry, and went before it showed the next step. Where that is drawn here the way goes on; where it
  // needs the server, nothing is held that would bring the page on when it is back, so that it asks by itself.
  function withoutNetwork(next) {
    gone = true;
    showNext("Kept");
    document.dispatchEvent(new CustomEvent("vaaka:step"));
    const again = window.setInterval(async () => {
      if (signal.aborted || ofCheck().length > 0) {
        window.clearInterval(again);
      } else if (!isBusy() && (await reaches()) && !isBusy() && ofCheck().length === 0) {
        window.clearInterval(again);
        window.location.assign(next);
      }
    }, TRY_AGAIN_MS);
    signal.addEventListener("abort", () => window.clearInterval(again));
  }

  // Words about a file, and the button that answers the guard's question about this very one.
  function refuse(form, { words, asked }) {
    delete form.dataset.sent;
    form.classList.remove("is-sending");
    tell(form, { words, field: form.querySelector("[name=file]") });
    form.querySelector("[data-answer]")?.remove();
    if (!asked) return;
    const yes = document.createElement("button");
    yes.className = "plain-button";
    yes.name = "confirm_far";
    yes.value = asked;
    yes.dataset.answer = "";
    yes.textContent = "Yes, and the trace is as it is: keep it";
    form.querySelector(".main-button").after(" ", yes);
    form.addEventListener("change", () => yes.remove(), { once: true });
  }

  check.querySelector("[data-held-again]")?.addEventListener("click", () => {
    const bad = ofCheck().find((entry) => entry.refused);
    if (bad) change(bad, { refused: undefined });
    retry();
  });

  // Left out of the check, not lost: the server keeps what was read beside the record.
  check.querySelector("[data-held-drop]")?.addEventListener("click", () => {
    const bad = ofCheck().find((entry) => entry.refused);
    if (!bad) return;
    change(bad, { fields: { ...bad.fields, given_up: bad.refused } });
    gone = true;
    retry();
  });

  // A link, Esc or a form beside the step leads nowhere with the network gone: the page says so and stays.
  async function leave(go) {
    if (await reaches()) {
      go();
      return;
    }
    gone = true;
    const note = document.querySelector("[data-held-note]");
    note.textContent = "The network is gone: this page stays as it is, and you can go on measuring. What you keep is sent when the network is back.";
    note.hidden = false;
  }
  document.addEventListener("click", (event) => {
    const link = event.target.closest?.("a[href]");
    if (!link || event.defaultPrevented || event.button !== 0 || event.ctrlKey || event.metaKey || event.shiftKey) return;
    if (link.target || link.origin !== window.location.origin || link.getAttribute("href").startsWith("#")) return;
    event.preventDefault();
    leave(() => window.location.assign(link.href));
  }, { signal });
  document.addEventListener("vaaka:leave", (event) => leave(() => window.location.assign(event.detail)), { signal });
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (event.defaultPrevented || form.dataset.reached) return;
    const entry = form.matches("form.entry") && !form.querySelector("[name=replaces]");
    if (entry && event.submitter?.name !== "confirm_far") return;
    event.preventDefault();
    event.stopPropagation();
    const by = event.submitter;
    leave(() => {
      form.dataset.reached = "yes";
      form.requestSubmit(by);
    });
  }, { capture: true, signal });

  const retry = () => {
    if (mine().length > 0) flush(ended);
  };
  draw();
  if (ofCheck().length > 0) {
    gone = !ofCheck().some((entry) => entry.refused);
    retry();
  }
  window.addEventListener("online", retry, { signal });
  const beat = window.setInterval(retry, TRY_AGAIN_MS);
  signal.addEventListener("abort", () => window.clearInterval(beat));
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
