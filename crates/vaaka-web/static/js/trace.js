// A step that asks for a trace: its file is chosen, dropped or pasted; drawn curves are read with the pointer and the keys.

// Files of entries that are held lie beside them: the small store of the entries has no room for curves.
const STORE = "files";

function open() {
  return new Promise((resolve, reject) => {
    const asked = indexedDB.open("vaaka", 1);
    asked.onupgradeneeded = () => asked.result.createObjectStore(STORE);
    asked.onsuccess = () => resolve(asked.result);
    asked.onerror = () => reject(asked.error);
  });
}

async function within(mode, work) {
  const store = await open();
  try {
    return await new Promise((resolve, reject) => {
      const run = store.transaction(STORE, mode);
      const asked = work(run.objectStore(STORE));
      run.oncomplete = () => resolve(asked.result);
      run.onerror = () => reject(run.error);
      run.onabort = () => reject(run.error);
    });
  } finally {
    store.close();
  }
}

export const putFile = (key, file) => within("readwrite", (files) => files.put({ name: file.name, content: file }, key));
export const takeFile = (key) => within("readonly", (files) => files.get(key));
export const dropFile = (key) => within("readwrite", (files) => files.delete(key)).catch(() => {});

/** The file that was chosen at a form; nothing where none was. */
export function chosenFile(form) {
  return form.querySelector("input[type=file][name=file]")?.files[0] ?? null;
}

// A file that is dropped anywhere on the step, or numbers that are pasted, go into its form.
export function takeTraces(check, signal) {
  const place = check.querySelector(".step");
  const field = () => place.querySelector("form.entry.trace input[type=file]");
  place.addEventListener("dragover", (event) => {
    if (!field()) return;
    event.preventDefault();
    place.classList.add("is-over");
  });
  place.addEventListener("dragleave", (event) => {
    if (!place.contains(event.relatedTarget)) place.classList.remove("is-over");
  });
  place.addEventListener("drop", (event) => {
    place.classList.remove("is-over");
    const input = field();
    if (!input || event.dataTransfer.files.length === 0) return;
    event.preventDefault();
    const one = new DataTransfer();
    one.items.add(event.dataTransfer.files[0]);
    input.files = one.files;
    input.dispatchEvent(new Event("change", { bubbles: true }));
  });
  // With a file in hand the next thing is to keep it.
  place.addEventListener("change", (event) => {
    if (event.target === field() && event.target.files.length > 0) event.target.form.querySelector(".main-button").focus();
  });
  // Of a file and pasted numbers the newer one is meant: two at once would hide which was kept.
  place.addEventListener("input", (event) => {
    const input = field();
    if (input && event.target.name === "typed" && event.target.value.trim() !== "") input.value = "";
  });
  place.addEventListener("change", (event) => {
    const text = place.querySelector("form.entry.trace textarea");
    if (text && event.target === field() && event.target.files.length > 0) text.value = "";
  });
  document.addEventListener("paste", (event) => {
    const input = field();
    if (!input || event.target.matches?.("input, textarea")) return;
    const pasted = event.clipboardData;
    if (pasted.files.length > 0) {
      const one = new DataTransfer();
      one.items.add(pasted.files[0]);
      input.files = one.files;
      input.dispatchEvent(new Event("change", { bubbles: true }));
      return;
    }
    const text = place.querySelector("form.entry.trace textarea");
    text.closest("details").open = true;
    text.value = pasted.getData("text/plain");
    text.dispatchEvent(new Event("input", { bubbles: true }));
    text.focus();
  }, { signal });
}

// Values of a curve under the pointer, or point by point with the arrow keys: over an axis by a line, in a plane by a ring.
export function readPlot(box) {
  const { left, right, top, bottom, x, y, plane, points } = JSON.parse(box.dataset.plot);
  const svg = box.querySelector("svg");
  const words = box.querySelector("[data-plot-value]");
  if (points.length === 0) return;
  words.setAttribute("role", "status");
  const cursor = document.createElementNS("http://www.w3.org/2000/svg", plane ? "circle" : "line");
  cursor.setAttribute("class", plane ? "plot-cursor plane-cursor" : "plot-cursor");
  const put = (attributes) => Object.entries(attributes).forEach(([name, value]) => cursor.setAttribute(name, value));
  put(plane ? { r: 7 } : { y1: top, y2: bottom });
  let at = -1;
  const unit = (value, of) => (of ? `${value} ${of}` : `${value}`);
  const short = (value) => Number(value.toPrecision(7));
  function go(index) {
    at = Math.max(0, Math.min(points.length - 1, index));
    const point = points[at];
    put(plane ? { cx: point[0], cy: point[1] } : { x1: point[0], x2: point[0] });
    if (!cursor.isConnected) svg.append(cursor);
    words.textContent = plane ? point[2] : `${unit(short(point[1]), x)}: ${unit(short(point[2]), y)}`;
  }
  // The nearest point of a plane; over an axis the nearest column.
  function near(column, row) {
    if (plane) {
      const away = (point) => (point[0] - column) ** 2 + (point[1] - row) ** 2;
      return points.reduce((best, point, index) => (away(point) < away(points[best]) ? index : best), 0);
    }
    let low = 0;
    let high = points.length - 1;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (points[middle][0] < column) low = middle + 1;
      else high = middle;
    }
    return low > 0 && column - points[low - 1][0] < points[low][0] - column ? low - 1 : low;
  }
  svg.addEventListener("pointermove", (event) => {
    const frame = svg.getBoundingClientRect();
    const column = ((event.clientX - frame.left) / frame.width) * svg.viewBox.baseVal.width;
    const row = ((event.clientY - frame.top) / frame.height) * svg.viewBox.baseVal.height;
    if (!plane && (column < left - 4 || column > right + 4)) return;
    go(near(column, row));
  });
  box.addEventListener("keydown", (event) => {
    const steps = { ArrowLeft: -1, ArrowRight: 1, PageUp: -20, PageDown: 20 };
    if (event.key in steps) go(at < 0 ? 0 : at + steps[event.key]);
    else if (event.key === "Home") go(0);
    else if (event.key === "End") go(points.length - 1);
    else return;
    event.preventDefault();
  });
}
