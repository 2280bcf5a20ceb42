// A picture with boxes: writing beside them, landmarks and outlines, zoom by keys and wheel.
// The report, the page of a trial and the review page show the same.
const dotSight = (() => {
  const SVG = "http://www.w3.org/2000/svg";
  const LETTER = 13; // height of writing in pixels of the screen, whatever the zoom
  const SMALL = 6; // a box of less than so many times the writing's area is covered by none
  const pen = document.createElement("canvas").getContext("2d");

  function element(name, values, kind) {
    const made = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(values)) made.setAttribute(key, value);
    made.setAttribute("class", kind);
    return made;
  }
  // Pixels of the picture for one pixel of the screen.
  function unitOf(svg) {
    const wide = svg.getBoundingClientRect().width;
    return wide ? svg.viewBox.baseVal.width / wide : 1;
  }
  function shapes(one, unit) {
    const made = [];
    if (one.outline && one.outline.length) {
      made.push(element("polygon", { points: one.outline.map((p) => p.join(",")).join(" "), "stroke-width": 2 * unit }, "shape"));
    }
    for (const [cx, cy] of one.points || []) made.push(element("circle", { cx, cy, r: 2.5 * unit }, "shape point"));
    return made;
  }
  // Where a text may stand, the wanted places first; [x, y] of its upper left corner.
  function spots([x0, y0, x1, y1], wide, high, place) {
    const middle = (x0 + x1 - wide) / 2;
    const above = [[x0, y0 - high], [middle, y0 - high], [x1 - wide, y0 - high]];
    const below = [[x0, y1], [middle, y1], [x1 - wide, y1]];
    const beside = [[x1, y0], [x0 - wide, y0], [x1, y1 - high], [x0 - wide, y1 - high]];
    const fits = wide <= x1 - x0 && high <= y1 - y0;
    const roomy = fits && (x1 - x0) * (y1 - y0) >= SMALL * wide * high;
    const inside = fits ? [[x0, y0], [x0, y1 - high]] : [];
    const first = { above, below, inside, near: [] }[place] || [];
    return [...first, ...above, ...below, ...beside, ...(roomy ? inside : [])];
  }
  const apart = (a, b) => a[2] <= b[0] || b[2] <= a[0] || a[3] <= b[1] || b[3] <= a[1];
  // Writing that covers no other writing and no small box, and stays in the picture; what finds
  // no place is not written: the list beside the picture has it.
  function writing(items, [width, height], unit, place) {
    const area = (box) => (box[2] - box[0]) * (box[3] - box[1]);
    const taken = [];
    const made = [];
    pen.font = `${LETTER}px system-ui, sans-serif`;
    for (const one of [...items].sort((a, b) => area(a.box) - area(b.box))) {
      if (!one.text) continue;
      const wide = (pen.measureText(one.text).width + 8) * unit;
      const high = (LETTER + 6) * unit;
      const own = place === "inside" ? one : null;
      const kept = items.filter((other) => other !== own && area(other.box) < SMALL * wide * high).map((other) => other.box);
      const spot = spots(one.box, wide, high, place).map(([x, y]) => [x, y, x + wide, y + high]).find((s) =>
        s[0] >= 0 && s[1] >= 0 && s[2] <= width && s[3] <= height
        && taken.every((other) => apart(s, other)) && kept.every((other) => apart(s, other)));
      if (!spot) continue;
      taken.push(spot);
      made.push(element("rect", { x: spot[0], y: spot[1], width: wide, height: high, rx: 2 * unit }, "tag"));
      const text = element("text", { x: spot[0] + 4 * unit, y: spot[3] - 5 * unit }, "said");
      text.style.fontSize = `${LETTER * unit}px`;
      text.textContent = one.text;
      made.push(text);
    }
    return made;
  }
  // Zoom of a frame inside a stage that scrolls. Plus, minus and 0; the wheel, about the pointer.
  function zoom(stage, frame, redraw) {
    let factor = 1;
    let base = "";
    function set(wanted, x = stage.clientWidth / 2, y = stage.clientHeight / 2) {
      const next = Math.min(16, Math.max(1, wanted));
      if (factor === 1) base = frame.style.width;
      const grown = next / factor;
      const left = (stage.scrollLeft + x) * grown - x;
      const top = (stage.scrollTop + y) * grown - y;
      if (next === 1) frame.style.width = base;
      else frame.style.width = `${frame.getBoundingClientRect().width * grown}px`;
      frame.style.maxWidth = next === 1 ? "" : "none";
      frame.style.maxHeight = next === 1 ? "" : "none";
      factor = next;
      stage.scrollTo(left, top);
      stage.dataset.zoom = factor.toFixed(2);
      redraw();
    }
    stage.addEventListener("wheel", (event) => {
      event.preventDefault();
      const seen = stage.getBoundingClientRect();
      set(factor * Math.exp(-event.deltaY / 400), event.clientX - seen.left, event.clientY - seen.top);
    }, { passive: false });
    function key(event) {
      if (event.ctrlKey || event.metaKey || event.altKey) return false;
      if (event.key === "+" || event.key === "=") set(factor * 1.5);
      else if (event.key === "-") set(factor / 1.5);
      else if (event.key === "0") set(1);
      else return false;
      event.preventDefault();
      return true;
    }
    return { set, key, factor: () => factor };
  }
  return { shapes, writing, unitOf, zoom };
})();
