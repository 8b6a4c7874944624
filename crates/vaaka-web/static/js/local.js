// What a step asks by itself while the network is gone: the questions of the server, about one value, without its
// registers. The server rules on what arrives. Decimals are exact here, too: 20.1 is no binary number.
const MOST_DIGITS = 15;

/** A number as typed: { units, places } with value = units / 10^places; words where it is none. */
function parse(text, most = MOST_DIGITS) {
  const plain = text.trim().replace(/[\s\u00a0\u2009\u202f]/g, "").replace("\u2212", "-");
  if (plain === "") return { words: "Nothing is typed yet. Type what the display shows, digits only." };
  const odd = /[^0-9.,+-]/.exec(plain) ?? /(?<=.)[+-]/.exec(plain);
  if (odd) return { words: `\u201c${odd[0]}\u201d is not part of a number. Type digits with one comma or point, for example 20.012.` };
  const [whole, fraction = "", ...more] = plain.replace(/^[+-]/, "").split(/[.,]/);
  if (more.length > 0) return { words: "There is more than one comma or point. Type the number without thousands marks, with one comma or point for the decimals." };
  if (whole + fraction === "") return { words: "There is no digit in this. Type what the display shows, for example 20.012." };
  if ((whole + fraction).length > most) return { words: `That is more than ${most} digits. Type only what the display shows.` };
  const units = BigInt(whole + fraction) * (plain.startsWith("-") ? -1n : 1n);
  return { units, places: fraction.length };
}

/** A text without the unit that is asked for, where that stands behind it. */
function bare(text, unit) {
  const plain = text.trim();
  return unit && plain.endsWith(unit) ? plain.slice(0, -unit.length) : plain;
}

// Powers of ten of the units that small weights are marked in.
const MASS = { kg: 3, mg: -3, g: 0 };

/** The sum of small weights in the unit of the display, typed in it or in the unit that they are marked in. */
function weightsIn(text, unit) {
  const marked = unit in MASS ? Object.keys(MASS).find((one) => text.trim().endsWith(one)) ?? unit : unit;
  const value = parse(bare(text, marked));
  if (value.words || marked === unit) return value;
  const shift = MASS[unit] - MASS[marked];
  return shift > 0 ? { units: value.units, places: value.places + shift } : { units: value.units * 10n ** BigInt(-shift), places: value.places };
}

// The server's own numbers may be longer than any display shows.
const exact = (text) => parse(text, 60);

const scaled = (number, places) => number.units * 10n ** BigInt(places - number.places);

/** Two numbers as whole numbers of the finer place. */
function alike(a, b) {
  const places = Math.max(a.places, b.places);
  return [scaled(a, places), scaled(b, places)];
}

const size = (value) => (value < 0n ? -value : value);
const less = (a, b) => {
  const [x, y] = alike(a, b);
  return x < y;
};
const same = (a, b) => {
  const [x, y] = alike(a, b);
  return x === y;
};
const minus = (a, b) => {
  const [x, y] = alike(a, b);
  return { units: x - y, places: Math.max(a.places, b.places) };
};

function isStep(value, step) {
  const [x, y] = alike(value, step);
  return y === 0n || x % y === 0n;
}

function reading(form, rules) {
  const text = bare(form.querySelector("[name=typed]").value, rules.name);
  const value = parse(text);
  if (value.words) return { words: value.words };
  const [wanted, guard, step] = [rules.wanted, rules.guard, rules.step].map(exact);
  const near = (number) => {
    const far = minus(number, wanted);
    return !less(guard, { units: size(far.units), places: far.places });
  };
  const thousands = /^[1-9]\d{0,2}[.,]\d{3}$/.test(text.trim()) ? { units: value.units, places: 0 } : null;
  if (thousands && !near(value) && near(thousands)) {
    return { words: `\u201c${text.trim()}\u201d can be read in two ways. Type it without thousands marks: ${thousands.units}.` };
  }
  if (!isStep(value, step)) {
    return { words: `This display moves in steps of ${rules.step} ${rules.name}, so it cannot show ${text.trim()}. Read it again.` };
  }
  const asked = form.dataset.asked === undefined ? null : parse(bare(form.dataset.asked, rules.name));
  if (!near(value) && !(asked && !asked.words && same(asked, value))) {
    return {
      asks: text,
      attempt: text,
      words: `${rules.words} ${text.trim()} was typed. If the display really shows this, press Enter once more.`,
    };
  }
  const added = form.querySelector("[name=added]");
  if (!added) return null;
  if (rules.beside !== "weights") return beside(added, rules.beside.split("\n"));
  const weights = weightsIn(added.value, rules.name);
  if (weights.words) return { words: `Added weights: ${weights.words}`, field: added };
  if (weights.units < 0n || less(step, weights)) {
    return { words: `The added weights are between 0 and one step of the display (${rules.step} ${rules.name}). Type their sum.`, field: added };
  }
  return null;
}

/** The number beside a reading: its name, unit and what it can be. */
function beside(field, [name, unit, lower, upper, wanted]) {
  const value = parse(bare(field.value, unit));
  if (value.words) return { words: `${name}: ${value.words}`, field };
  const low = lower !== "" && less(value, exact(lower));
  const high = upper !== "" && less(exact(upper), value);
  if (!low && !high) return null;
  return { words: `${name}: it is ${wanted}, and ${field.value.trim()} was typed. Read it again.`, field };
}

const plain = (words) => words.replace(/\s+/g, "").toLowerCase();

/** Whether two ways to write a setting mean the same, as the server asks it. */
function sameWords(one, other) {
  const [a, b] = [parse(one), exact(other)];
  return !a.words && !b.words ? same(a, b) : plain(one) === plain(other);
}

const lines = (text) => (text ?? "").split("\n").filter((line) => line !== "");

function setting(form, rules) {
  const text = form.querySelector("[name=typed]").value.trim();
  if (text === "") return { words: `Read ${rules.name} on the instrument and type what it shows.` };
  if (![rules.wanted, ...lines(rules.also)].some((way) => sameWords(text, way))) {
    return {
      attempt: text,
      words: `The check stops here: ${rules.name} must be ${rules.wanted}, and \u201c${text}\u201d was typed. Set it right and look again; readings of a wrong set-up mean nothing.`,
    };
  }
  const [found] = attempts(form);
  if (rules.byLead === undefined || found === undefined) return null;
  return { words: `It was found at \u201c${found}\u201d, and under this plan a lead decides about setting ${rules.name} right. Tell your lead.` };
}

function choice(form, rules) {
  return typedIn(form) !== "" ? null : { words: `Choose what ${rules.name} is: ${rules.wanted}.`, field: form.querySelector("[name=typed]") };
}

function text(form, rules) {
  const typed = form.querySelector("[name=typed]").value.trim();
  if (typed === "") return { words: `Read ${rules.name} and type it as it stands there.` };
  const long = [...typed].length;
  return long > Number(rules.upper) ? { words: `This has ${long} characters; ${rules.upper} are the most.` } : null;
}

function file(form, rules) {
  const field = form.querySelector("[name=file]");
  return field.files.length > 0 ? null : { words: `Choose the photograph or document of ${rules.name}: a picture (PNG, JPEG, WebP) or a PDF.`, field };
}

function count(form, rules) {
  const typed = form.querySelector("[name=typed]").value.trim();
  return /^\d{1,6}$/.test(typed) ? null : { words: `Type ${rules.name} as a whole number from 0 to 999999, for example 12.` };
}

function condition(form, rules) {
  const text = bare(form.querySelector("[name=typed]").value, rules.step);
  const value = parse(text);
  if (value.words) return { words: value.words };
  const low = rules.lower !== "" && less(value, exact(rules.lower));
  const high = rules.upper !== "" && less(exact(rules.upper), value);
  if (!low && !high) return null;
  return { attempt: text, words: `${rules.name} is ${text.trim()}; ${rules.wanted} is needed. ${rules.words}` };
}

function trace(form, rules) {
  const input = form.querySelector("[name=file]");
  const file = input.files[0];
  // What was read over the line is with the server already.
  const read = (form.querySelector("[name=capture]")?.value ?? "") !== "";
  if (!file && !read && form.querySelector("[name=typed]").value.trim() === "") {
    return { words: `Choose the file with ${rules.name}, or paste its numbers: ${rules.wanted}.`, field: input };
  }
  const most = Number(rules.upper);
  if (file && file.size > most) {
    const size = Math.ceil(file.size / 1048576);
    return { words: `This file has ${size} MB; ${most / 1048576} MB are the most. Measure with fewer points, or export one curve only.`, field: input };
  }
  return file && file.size === 0 ? { words: "There is nothing in this file. Export it again.", field: input } : null;
}

/** Words where the entry is not to be kept yet; nothing where it is. What says something about the instrument stays with
 * the form and goes along when an entry is kept. */
export function ask(form) {
  const ticks = [...form.querySelectorAll(".ticks input[type=checkbox]")];
  const open = ticks.filter((box) => !box.checked);
  if (open.length > 0) {
    return { words: `Tick each line when it is done: ${ticks.length - open.length} of ${ticks.length} are.`, field: open[0] };
  }
  const rules = form.dataset;
  const found = { reading, setting, choice, text, file, count, condition, trace }[rules.rules]?.(form, rules) ?? null;
  if (found?.asks !== undefined) form.dataset.asked = found.asks;
  if (found?.attempt !== undefined) {
    const before = attempts(form);
    if (before.at(-1) !== found.attempt.trim()) form.dataset.attempts = JSON.stringify([...before, found.attempt.trim()]);
  }
  return found;
}

/** What stands in the field of a form, or is chosen among its words. */
export function typedIn(form) {
  const field = form.querySelector("[name=typed]:checked") ?? form.querySelector("[name=typed]:not([type=radio])");
  return field?.value ?? "";
}

/** What was typed at this form and not kept, oldest first. */
export function attempts(form) {
  return JSON.parse(form.dataset.attempts ?? "[]");
}
