// Asks what a step asks by itself (static/js/local.js) about cases from standard input, without a browser: a stand-in for
// the form gives what the questions look at. Answers stand on standard output, in the order of the cases.
import { readFileSync } from "node:fs";
import { ask } from "../crates/vaaka-web/static/js/local.js";

class Field {
  constructor(name, value, { type = "text", checked = false } = {}) {
    Object.assign(this, { name, value, type, checked });
  }
}

class Form {
  constructor({ rules, typed, added, choices, ticks, attempts, asked }) {
    this.fields = [];
    if (choices) {
      for (const word of choices) this.fields.push(new Field("typed", word, { type: "radio", checked: word === typed }));
    } else {
      this.fields.push(new Field("typed", typed));
    }
    if (added !== undefined && added !== null) this.fields.push(new Field("added", added));
    this.ticks = (ticks ?? []).map((checked, at) => new Field(`tick${at}`, "on", { type: "checkbox", checked }));
    this.dataset = { ...rules };
    if (attempts?.length) this.dataset.attempts = JSON.stringify(attempts);
    if (asked) this.dataset.asked = asked;
  }

  querySelector(selector) {
    const [, name] = /\[name=(\w+)\]/.exec(selector);
    const found = this.fields.filter((field) => field.name === name);
    if (selector.includes(":checked")) return found.find((field) => field.checked) ?? null;
    if (selector.includes(":not([type=radio])")) return found.find((field) => field.type !== "radio") ?? null;
    return found[0] ?? null;
  }

  querySelectorAll() {
    return this.ticks;
  }
}

const cases = JSON.parse(readFileSync(0, "utf8"));
const answers = cases.map((one) => {
  const form = new Form(one);
  const found = ask(form);
  return {
    kept: found === null,
    asks: found?.asks !== undefined,
    attempt: found?.attempt !== undefined,
    words: found?.words ?? "",
    asked: form.dataset.asked ?? null,
  };
});
process.stdout.write(JSON.stringify(answers));
