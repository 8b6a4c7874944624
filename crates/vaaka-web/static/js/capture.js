// Reads the instrument into the field. Nothing is kept by it: Keep keeps, as with what is typed.
const words = (form) => form.querySelector("[data-captured]");

// What is waited for, so that a step that has gone asks for nothing more.
let waiting = null;
// A key that nobody presses is waited for again; a line that fails at once is not.
const AT_ONCE_MS = 5000;

export function readLines(check, signal) {
  signal.addEventListener("abort", () => {
    waiting?.abort();
    // Or Read on the next step would only end what has ended.
    waiting = null;
  });
  const button = () => check.querySelector(".step > form.entry [data-read]");
  check.addEventListener("click", (event) => {
    const pressed = event.target.closest?.("[data-read]");
    if (!pressed) return;
    event.preventDefault();
    if (waiting) stop(pressed);
    else read(pressed);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key !== "F9" || !button()) return;
    event.preventDefault();
    if (!waiting) read(button());
  }, { signal });
  // What is typed over it is typed.
  check.addEventListener("input", (event) => {
    const form = event.target.closest?.("form.entry");
    if (!form || !["typed", "file"].includes(event.target.name)) return;
    const capture = form.querySelector("input[name=capture]");
    if (capture) capture.value = "";
    if (words(form)) {
      words(form).textContent = "";
      words(form).classList.remove("field-error");
    }
    // Whoever types does not wait for the instrument.
    if (waiting) stop(form.querySelector("[data-read]"));
  });
  // An instrument with a key of its own is listened to as soon as its step is there.
  const own = button();
  const field = own?.form.querySelector("#typed");
  if (own?.dataset.ownKey !== undefined && field?.value === "" && !check.querySelector("[aria-invalid=true]")) read(own, true);
}

function stop(button) {
  waiting?.abort();
  waiting = null;
  button.removeAttribute("aria-busy");
  const line = words(button.form);
  if (line?.dataset.waits !== undefined) {
    line.textContent = "";
    delete line.dataset.waits;
  }
}

async function read(button, byItself = false) {
  const { form } = button;
  const line = words(form);
  const own = new AbortController();
  const began = Date.now();
  waiting = own;
  button.setAttribute("aria-busy", "true");
  line.dataset.waits = "";
  line.classList.remove("field-error");
  line.textContent = button.dataset.ownKey === undefined ? "Reading …" : "Press the print key on the instrument.";
  const body = new URLSearchParams();
  for (const [name, value] of new FormData(form)) if (typeof value === "string") body.set(name, value);
  let answer = null;
  try {
    const came = await fetch(button.formAction, { method: "POST", headers: { Accept: "application/json" }, body, signal: own.signal });
    const type = came.headers.get("content-type") ?? "";
    answer = type.startsWith("application/json") ? { ok: came.ok, ...(await came.json()) } : { ok: false, words: "The server did not answer as expected. Type the value." };
  } catch {
    if (own.signal.aborted) return;
    answer = { ok: false, words: "The server cannot be reached, so the instrument cannot be read. Type the value; it is kept on this device." };
  }
  if (waiting !== own) return;
  waiting = null;
  button.removeAttribute("aria-busy");
  delete line.dataset.waits;
  if (!answer.ok) {
    if (byItself && Date.now() - began > AT_ONCE_MS && button.isConnected && document.visibilityState === "visible") {
      await read(button, true);
      return;
    }
    // Nobody asked: it is said, and the field stays where it is.
    line.textContent = answer.words ?? "";
    line.classList.toggle("field-error", !byItself);
    if (!byItself) form.querySelector("#typed")?.focus();
    return;
  }
  const field = form.querySelector("#typed");
  if (answer.typed !== "" && field) {
    field.value = answer.typed;
    // Whoever writes elsewhere on the page, why it is void, goes on writing there.
    const elsewhere = document.activeElement?.closest?.("form");
    if (!elsewhere || elsewhere === form) {
      field.focus();
      field.select();
    }
  }
  form.querySelector("input[name=capture]").value = answer.capture;
  line.textContent = answer.words;
  // What is typed beside it, a code, added weights or why it is corrected, is typed first.
  const whole = form.querySelector("#added, #reason") === null;
  if (button.dataset.saves !== undefined && answer.said === "" && whole) form.requestSubmit(form.querySelector(".main-button"));
  else if (answer.typed === "") form.querySelector(".main-button").focus();
}
