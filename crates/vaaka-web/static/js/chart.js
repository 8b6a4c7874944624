// Hover and arrow keys show the record of a check; Enter opens it. Plus and minus, Shift with the arrows, or
// drawing over a stretch lead to another stretch of time; all of these are links that work without this.
const DRAWN = { left: 64, right: 808, width: 920 };

export function walkChart(sheet) {
  const points = [...sheet.querySelectorAll(".point")];
  const record = sheet.querySelector("[data-record]");
  const svg = sheet.querySelector("svg");
  let picked = -1;

  function pick(index) {
    if (points.length === 0) return;
    points[picked]?.classList.remove("picked");
    picked = Math.min(points.length - 1, Math.max(0, index));
    const point = points[picked];
    point.classList.add("picked");
    record.textContent = point.dataset.label;
    record.classList.add("says");
  }

  function open() {
    const check = points[picked]?.dataset.check;
    if (check && check !== "0") window.location.assign(`/charts/${sheet.dataset.chart}/points/${check}`);
  }

  function go(way) {
    const link = sheet.querySelector(`[data-way="${way}"]`);
    if (link) window.location.assign(link.href);
  }

  // The nearest point to the pointer, so that small marks need no aim.
  svg?.addEventListener("pointermove", (event) => {
    let best = -1;
    let least = 900;
    points.forEach((point, index) => {
      const box = point.getBoundingClientRect();
      const dx = box.x + box.width / 2 - event.clientX;
      const dy = box.y + box.height / 2 - event.clientY;
      const distance = dx * dx + dy * dy;
      if (distance < least) {
        least = distance;
        best = index;
      }
    });
    if (best >= 0 && best !== picked) pick(best);
  });
  sheet.addEventListener("click", (event) => {
    const point = event.target.closest(".point");
    if (point) {
      pick(points.indexOf(point));
      open();
    }
  });
  sheet.addEventListener("keydown", (event) => {
    if (event.target !== sheet || event.ctrlKey || event.metaKey || event.altKey) return;
    const last = points.length - 1;
    const from = picked < 0 ? last + 1 : picked;
    const steps = { ArrowLeft: from - 1, ArrowRight: from + 1, PageUp: from - 10, PageDown: from + 10, Home: 0, End: last };
    const ways = { "+": "closer", "=": "closer", "-": "wider", "−": "wider" };
    if (event.shiftKey && (event.key === "ArrowLeft" || event.key === "ArrowRight")) {
      event.preventDefault();
      go(event.key === "ArrowLeft" ? "earlier" : "later");
    } else if (event.key in steps) {
      event.preventDefault();
      pick(steps[event.key]);
    } else if (event.key in ways) {
      event.preventDefault();
      go(ways[event.key]);
    } else if (event.key === "Enter") {
      open();
    }
  });
  if (svg && sheet.dataset.from) drawOver(sheet, svg);
}

// A stretch is drawn over with the pointer held down; less than a few pixels is a click.
function drawOver(sheet, svg) {
  const [first, last] = [Number(svg.dataset.from ?? sheet.dataset.from), Number(svg.dataset.to ?? sheet.dataset.to)];
  let begun = null;
  let veil = null;
  const x = (event) => {
    const box = svg.getBoundingClientRect();
    const at = ((event.clientX - box.left) / box.width) * DRAWN.width;
    return Math.min(DRAWN.right, Math.max(DRAWN.left, at));
  };
  svg.addEventListener("pointerdown", (event) => {
    if (event.button === 0 && event.pointerType !== "touch") begun = x(event);
  });
  svg.addEventListener("pointermove", (event) => {
    if (begun === null || Math.abs(x(event) - begun) < 8) return;
    if (!veil) {
      veil = document.createElementNS("http://www.w3.org/2000/svg", "rect");
      veil.setAttribute("class", "veil");
      veil.setAttribute("y", "54");
      veil.setAttribute("height", "318");
      svg.append(veil);
    }
    veil.setAttribute("x", String(Math.min(begun, x(event))));
    veil.setAttribute("width", String(Math.abs(x(event) - begun)));
  });
  window.addEventListener("pointerup", (event) => {
    if (begun !== null && veil) {
      const at = (place) => first + ((place - DRAWN.left) / (DRAWN.right - DRAWN.left)) * (last - first);
      const ends = [at(begun), at(x(event))].sort((a, b) => a - b);
      const show = (second) => new Date(second * 1000).toISOString();
      const asked = new URLSearchParams(location.search);
      for (const name of ["range", "from", "to"]) asked.delete(name);
      asked.set("from", show(ends[0]));
      asked.set("to", show(Math.max(ends[1], ends[0] + 8 * 3600)));
      window.location.assign(`${location.pathname}?${asked}`);
    }
    veil?.remove();
    veil = null;
    begun = null;
  });
}

// The drawing as a picture, twice as fine as it is drawn. Offered only where scripts run.
export function offerPicture(place) {
  place.hidden = false;
  place.querySelector("button").addEventListener("click", () => {
    const image = new Image();
    image.addEventListener("load", () => {
      const canvas = document.createElement("canvas");
      canvas.width = DRAWN.width * 2;
      canvas.height = Math.round((canvas.width * image.naturalHeight) / Math.max(1, image.naturalWidth));
      const brush = canvas.getContext("2d");
      brush.fillStyle = "#fffefa";
      brush.fillRect(0, 0, canvas.width, canvas.height);
      brush.drawImage(image, 0, 0, canvas.width, canvas.height);
      canvas.toBlob((blob) => {
        const link = document.createElement("a");
        link.href = URL.createObjectURL(blob);
        link.download = `${place.dataset.name}.png`;
        link.click();
        setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
        place.dataset.made = String(blob.size);
      }, "image/png");
    });
    image.src = place.dataset.picture;
  });
}

// The tags that may be typed, fetched when somebody opens the form: a site may have a thousand.
export function offerAlike(form) {
  const list = form.querySelector("datalist");
  async function fill() {
    if (!form.open || list.childElementCount > 0) return;
    const answer = await fetch(form.dataset.alike, { headers: { accept: "application/json" } }).catch(() => null);
    if (!answer?.ok || list.childElementCount > 0) return;
    for (const { tag, name } of await answer.json()) {
      const option = document.createElement("option");
      option.value = tag;
      option.label = name;
      list.append(option);
    }
  }
  form.addEventListener("toggle", fill);
  fill();
}
