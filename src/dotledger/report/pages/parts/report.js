"use strict";
// The page's numbers. Everything here counts columns that were judged in Python; nothing is judged
// again. dotLedger is left on the page so that tests can hold its numbers against Python's.
const dotLedger = (() => {
  // Two digits as Python rounds them: half to even. Only odd eighths lie exactly between two
  // hundredths; everything else is rounded the same way by toFixed.
  function fixed(value) {
    if (!Number.isFinite(value)) return "–";
    const eighths = value * 8;
    if (Number.isInteger(eighths) && eighths % 2 !== 0) {
      const below = Math.floor(value * 100);
      return ((below % 2 === 0 ? below : below + 1) / 100).toFixed(2);
    }
    return value.toFixed(2);
  }
  const ratio = (part, whole) => (whole > 0 ? part / whole : NaN);
  // Written in by Python from its registry of measures: [{name, ratios: [[part, whole], ...]}].
  const forms = MEASURE_FORMS;
  const names = forms.map((one) => one.name);
  const combined = (form, n) => Object.entries(form).reduce((sum, [name, factor]) => sum + factor * n[name], 0);
  const mean = (ratios, n) => ratios.reduce((sum, [part, whole]) => sum + ratio(combined(part, n), combined(whole, n)), 0) / ratios.length;
  const measures = (n) => Object.fromEntries(forms.map(({ name, ratios }) => [name, mean(ratios, n)]));
  // A finding passes the threshold of its kind and label; one without a confidence always does.
  const passes = (confidence, least) => confidence === null || least === null || confidence >= least;
  // Counts by "kind:label", and by "kind:" for all its labels, at thresholds by "kind:label".
  function count(run, least) {
    const found = new Map();
    const of = (key) => {
      let one = found.get(key);
      if (!one) { one = { annotated: 0, right: 0, wrong: 0, missed: 0 }; found.set(key, one); }
      return one;
    };
    for (const group of run.groups) {
      of(`${group.kind}:${group.label}`).annotated = group.annotated;
      of(`${group.kind}:`).annotated += group.annotated;
    }
    const f = run.findings;
    for (let i = 0; i < f.image.length; i += 1) {
      if (!f.counts[i] || f.state[i] > 1) continue;
      const key = `${f.kind[i]}:${f.label[i]}`;
      if (!passes(f.confidence[i], least(key))) continue;
      const what = f.state[i] === 0 ? "right" : "wrong";
      of(key)[what] += 1;
      of(`${f.kind[i]}:`)[what] += 1;
    }
    for (const one of found.values()) one.missed = one.annotated - one.right;
    return found;
  }
  return { fixed, ratio, names, measures, passes, count };
})();

(() => {
  const at = (id) => document.getElementById(id);
  const data = JSON.parse(at("data").textContent);
  const STATES = ["right", "wrong", "ignored", "unjudged"];
  const SIGNS = { right: "●", wrong: "✕", missed: "○", ignored: "·", unjudged: "◇", cut: "⌄" };
  const NAMES = { right: "right", wrong: "wrong", missed: "missed", ignored: "ignored", unjudged: data.judged ? "not judged" : "found", cut: "below" };
  const start = data.start;
  let own = { ...start }; // threshold by kind:label
  let rest = commonStart(); // of everything else
  let moved = false;
  let run = 0;
  let open = -1;
  const visible = new Set();
  const least = (key) => (key in own ? own[key] : rest);

  function commonStart() {
    const values = new Set(Object.values(start));
    return values.size === 1 ? [...values][0] : null;
  }

  // Rows of each run by image, made once.
  const byImage = data.runs.map((one) => ({
    findings: grouped(one.findings.image || []), annotations: grouped(one.annotations.image || []),
  }));
  function grouped(images) {
    const rows = data.names.map(() => []);
    images.forEach((image, row) => rows[image].push(row));
    return rows;
  }
  // The place of an annotation's finding, and of a finding's annotation, within the columns.
  const places = data.runs.map((one) => ({
    finding: new Map((one.findings.row || []).map((row, i) => [row, i])),
  }));

  function stateOf(r, i) {
    const f = data.runs[r].findings;
    if (!dotLedger.passes(f.confidence[i], least(`${f.kind[i]}:${f.label[i]}`))) return "cut";
    return STATES[f.state[i]];
  }
  // An annotation is missed if no finding is paired with it, or only one below the threshold.
  function isMissed(r, j) {
    const a = data.runs[r].annotations;
    if (!a.counts[j] || a.ignored[j]) return false;
    if (a.pair[j] < 0) return true;
    return stateOf(r, places[r].finding.get(a.pair[j])) === "cut";
  }
  function sumsOf(r, image, key) {
    const f = data.runs[r].findings; const a = data.runs[r].annotations;
    const mine = (kind, label) => !key || key === kind || key === `${kind}:${label}`;
    const sums = { right: 0, wrong: 0, missed: 0, found: 0 };
    for (const i of byImage[r].findings[image]) {
      if (!mine(f.kind[i], f.label[i])) continue;
      const state = stateOf(r, i);
      if (state !== "cut") sums.found += 1;
      if (f.counts[i] && state in sums) sums[state] += 1;
    }
    for (const j of byImage[r].annotations[image]) {
      if (mine(a.kind[j], a.label[j]) && isMissed(r, j)) sums.missed += 1;
    }
    return sums;
  }

  // ---- numbers and charts ------------------------------------------------
  function showNumbers() {
    const parts = [];
    data.runs.forEach((one, r) => {
      const counts = dotLedger.count(one, least);
      const total = { annotated: 0, right: 0, wrong: 0, missed: 0 };
      for (const [key, n] of counts) if (key.endsWith(":")) for (const name in total) total[name] += n[name];
      const m = dotLedger.measures(total);
      parts.push([one.name, `precision ${dotLedger.fixed(m.precision)}, recall ${dotLedger.fixed(m.recall)}, F1 ${dotLedger.fixed(m.f1)} (${total.right} right, ${total.wrong} wrong, ${total.missed} missed)`]);
      const table = document.querySelector(`table.measures[data-run="${r}"]`);
      if (!table) return;
      table.classList.toggle("moved", moved);
      for (const row of table.tBodies[0].rows) {
        const n = counts.get(`${row.dataset.kind}:${row.dataset.label}`) || { annotated: 0, right: 0, wrong: 0, missed: 0 };
        for (const name of ["right", "missed", "wrong"]) row.querySelector(`.n-${name}`).textContent = n[name];
        const values = dotLedger.measures(n);
        for (const name of dotLedger.names) row.querySelector(`.v-${name}`).textContent = dotLedger.fixed(values[name]);
      }
      movePoints(r, counts);
    });
    const line = at("headline");
    line.replaceChildren();
    for (const [name, words] of parts) {
      const strong = document.createElement("b");
      strong.textContent = name;
      line.append(line.childNodes.length ? "  ·  " : "", strong, ` ${words}`);
    }
  }
  // The marks on the charts: at the recall and precision of all labels of the kind.
  function movePoints(r, counts) {
    const kind = ["first", "second"][r];
    for (const chart of document.querySelectorAll('.chart[data-chart="curve"]')) {
      const n = counts.get(`${chart.dataset.kind}:`);
      const mark = chart.querySelector(`.moving.${kind}`);
      if (!n || !mark) continue;
      const m = dotLedger.measures(n);
      const there = Number.isFinite(m.recall) && Number.isFinite(m.precision);
      const [left, top, wide, high] = chart.dataset.axes.split(" ").map(Number);
      mark.setAttribute("cx", there ? left + m.recall * wide : -9);
      mark.setAttribute("cy", there ? top + (1 - m.precision) * high : -9);
    }
    for (const chart of document.querySelectorAll('.chart[data-chart="sweep"]')) {
      const value = commonOf(chart.dataset.kind);
      const rule = chart.querySelector(".moving-rule");
      rule.style.visibility = value === null ? "hidden" : "visible";
      const [left, , wide] = chart.dataset.axes.split(" ").map(Number);
      if (value !== null) rule.setAttribute("transform", `translate(${left + value * wide} 0)`);
    }
  }
  function commonOf(kind) {
    const values = new Set(Object.keys(own).filter((key) => !kind || key.startsWith(`${kind}:`)).map((key) => own[key]));
    return values.size === 1 ? [...values][0] : values.size ? null : rest;
  }

  // ---- boxes -------------------------------------------------------------
  const SVG = "http://www.w3.org/2000/svg";
  function rect(box, kind) {
    const made = document.createElementNS(SVG, "rect");
    made.setAttribute("x", box[0]); made.setAttribute("y", box[1]);
    made.setAttribute("width", box[2] - box[0]); made.setAttribute("height", box[3] - box[1]);
    made.setAttribute("class", kind);
    return made;
  }
  // What to draw on an image: [box, state, side, row], those that matter most on top.
  function marksOf(r, image) {
    const f = data.runs[r].findings; const a = data.runs[r].annotations;
    const made = [];
    for (const i of byImage[r].findings[image]) if (f.box[i]) made.push([f.box[i], stateOf(r, i), "f", i]);
    for (const j of byImage[r].annotations[image]) {
      if (!a.box[j]) continue;
      if (a.ignored[j]) made.push([a.box[j], "ignored", "a", j]);
      else if (isMissed(r, j)) made.push([a.box[j], "missed", "a", j]);
    }
    const order = ["cut", "ignored", "unjudged", "right", "missed", "wrong"];
    return made.sort((one, other) => order.indexOf(one[1]) - order.indexOf(other[1]));
  }
  function drawCard(image) {
    const card = at(`c${image}`);
    const over = card.querySelector(".over");
    const marks = marksOf(run, image).filter((mark) => mark[1] !== "cut");
    over.replaceChildren(...marks.flatMap(([box, state]) => [rect(box, "under"), rect(box, `box ${state}`)]));
    const sums = sumsOf(run, image, "");
    card.querySelector(".sum").textContent = data.judged
      ? `${SIGNS.right} ${sums.right}  ${SIGNS.wrong} ${sums.wrong}  ${SIGNS.missed} ${sums.missed}` : `${sums.found} found`;
  }
  function drawVisible() {
    for (const image of visible) drawCard(image);
    if (open >= 0) drawDetail();
  }
  const watch = new IntersectionObserver((entries) => {
    for (const entry of entries) {
      const image = Number(entry.target.dataset.place);
      if (entry.isIntersecting) { visible.add(image); drawCard(image); } else visible.delete(image);
    }
  }, { rootMargin: "300px" });

  // ---- one image in detail -----------------------------------------------
  let raws = null;
  function showDetail(image) {
    open = image;
    at("d-name").textContent = data.names[image];
    const small = at(`c${image}`).querySelector("img");
    at("d-image").hidden = !small;
    if (small) { at("d-image").src = small.src; at("d-image").alt = data.names[image]; }
    const [width, height] = data.sizes[image];
    if (width) {
      at("d-over").setAttribute("viewBox", `0 0 ${width} ${height}`);
      // As large as there is room for, in the image's own proportion.
      const frame = at("d-frame");
      frame.style.aspectRatio = `${width} / ${height}`;
      frame.style.width = `min(100%, calc(82vh * ${width / height}))`;
      at("d-image").style.width = "100%";
    }
    at("d-tip").textContent = "Point at a box, or choose a row.";
    if (!at("detail").open) at("detail").showModal();
    sight.set(1); // which draws, too
    const box = at("d-rawbox");
    if (box && box.open) showRaw();
    save();
  }
  function lines(r, image) {
    const f = data.runs[r].findings; const a = data.runs[r].annotations;
    const made = byImage[r].findings[image].map((i) => ["f", i, stateOf(r, i), f.kind[i], f.label[i], f.confidence[i]]);
    for (const j of byImage[r].annotations[image]) if (isMissed(r, j)) made.push(["a", j, "missed", a.kind[j], a.label[j], null]);
    return made;
  }
  function words(r, side, row) {
    const f = data.runs[r].findings; const a = data.runs[r].annotations;
    if (side === "a") {
      if (a.ignored[row]) return [`${a.label[row]}: annotated as doubtful; counts neither way`];
      const i = a.pair[row] < 0 ? -1 : places[r].finding.get(a.pair[row]);
      const why = i >= 0 ? `below the threshold: found with ${number(f.confidence[i])}` : a.reason[row];
      return [`expected ${a.label[row]}, ${a.kind[row]}`, why || "not seen"];
    }
    const state = stateOf(r, row);
    const made = [`${f.label[row]}, ${f.kind[row]}, ${number(f.confidence[row])}: ${state === "cut" ? "below the threshold" : NAMES[state]}`];
    if (state === "wrong" && f.reason[row]) made.push(f.reason[row]);
    if (f.more[row]) made.push(f.more[row]);
    made.push(`number ${f.order[row]} of its kind in the answer`);
    return made;
  }
  const number = (confidence) => (confidence === null ? "asserted" : dotLedger.fixed(confidence));
  // What is written beside a box: what was asked for, or the label with its confidence.
  function writtenOf(side, row) {
    const f = data.runs[run].findings;
    if (side === "a") return data.runs[run].annotations.label[row];
    return f.text[row] || (f.confidence[row] === null ? f.label[row] : `${f.label[row]} ${number(f.confidence[row])}`);
  }
  function besides(marks, image) {
    const f = data.runs[run].findings;
    const over = at("d-over");
    const unit = dotSight.unitOf(over);
    const shapes = at("d-shapes").checked ? marks.filter((mark) => mark[2] === "f").flatMap((mark) => dotSight.shapes({ points: f.points[mark[3]], outline: f.outline[mark[3]] }, unit)) : [];
    const items = marks.map(([box, state, side, row]) => ({ box, text: state === "cut" ? "" : writtenOf(side, row) }));
    return [...shapes, ...(at("d-said").checked ? dotSight.writing(items, data.sizes[image], unit, data.place) : [])];
  }
  function drawDetail() {
    const image = open;
    const marks = marksOf(run, image);
    at("d-over").replaceChildren(...marks.flatMap(([box, state, side, row]) => {
      const made = rect(box, `box ${state}`);
      const text = words(run, side, row);
      made.setAttribute("tabindex", "0");
      made.setAttribute("role", "img");
      made.setAttribute("aria-label", text.join(". "));
      made.dataset.key = `${side}${row}`;
      for (const event of ["pointerenter", "focus", "click"]) made.addEventListener(event, () => tell(side, row));
      return [rect(box, "under"), made];
    }), ...(data.sizes[image][0] ? besides(marks, image) : []));
    const table = document.createElement("table");
    const body = table.createTBody();
    for (const [side, row, state, kind, label, confidence] of lines(run, image)) {
      const line = body.insertRow();
      line.dataset.row = `${side}${row}`;
      line.tabIndex = 0;
      const mark = line.insertCell();
      mark.className = `mark ${state}`;
      mark.textContent = `${SIGNS[state]} ${NAMES[state]}`;
      for (const text of [label, kind, side === "a" ? "" : number(confidence)]) line.insertCell().textContent = text;
      for (const event of ["pointerenter", "focus", "click"]) line.addEventListener(event, () => tell(side, row));
    }
    const reasons = data.reasons[image].map((text) => { const p = document.createElement("p"); p.className = "small"; p.textContent = text; return p; });
    at("d-list").replaceChildren(...reasons, table);
    if (!body.rows.length) at("d-list").append("Nothing was found.");
  }
  function tell(side, row) {
    const key = `${side}${row}`;
    at("d-tip").replaceChildren(...words(run, side, row).map((text) => { const p = document.createElement("div"); p.textContent = text; return p; }));
    for (const one of at("d-over").querySelectorAll(".box")) one.classList.toggle("hot", one.dataset.key === key);
    for (const one of at("d-list").querySelectorAll("tr")) one.classList.toggle("hot", one.dataset.row === key);
  }
  function showRaw() {
    raws = raws || JSON.parse(at("rawdata").textContent);
    at("d-raw").textContent = pretty(raws[data.names[open]] || "no answer");
  }
  function pretty(text) {
    return text.split("\n\n").map((part) => {
      const cut = part.search(/[[{]/);
      if (cut < 0) return part;
      try { return part.slice(0, cut) + JSON.stringify(JSON.parse(part.slice(cut)), null, 2); } catch { return part; }
    }).join("\n\n");
  }
  function step(by) {
    const shown = [...at("cards").children].filter((card) => !card.hidden).map((card) => Number(card.dataset.place));
    const place = shown.indexOf(open);
    if (shown.length) showDetail(shown[(place + by + shown.length) % shown.length]);
  }

  // ---- filters, order, permalink -----------------------------------------
  const form = at("filters");
  const chosen = (name) => (form.elements[name] ? form.elements[name].value : "");
  function filter() {
    run = Number(chosen("run") || 0);
    const key = chosen("label") || chosen("kind");
    const state = chosen("state"); const name = chosen("name").toLowerCase();
    const [column, value] = splitOnce(chosen("slice"), "=");
    let shown = 0;
    data.names.forEach((image, place) => {
      const sums = key || state ? sumsOf(run, place, key) : null;
      const has = !sums || {
        "": !key || sums.found + sums.missed > 0, wrong: sums.wrong > 0, missed: sums.missed > 0, right: sums.right > 0,
        faultless: sums.wrong + sums.missed === 0, found: sums.found > 0, nothing: sums.found === 0,
      }[state];
      const fits = has && (!chosen("outcome") || data.outcomes[place] === chosen("outcome"))
        && (!chosen("verdict") || data.verdicts[place] === chosen("verdict"))
        && (!column || data.facts[place][column] === value) && (!name || image.toLowerCase().includes(name));
      at(`c${place}`).hidden = !fits;
      if (fits) shown += 1;
    });
    at("shown").textContent = `${shown} of ${data.names.length} images`;
  }
  function splitOnce(text, sign) {
    const place = text.indexOf(sign);
    return place < 0 ? ["", ""] : [text.slice(0, place), text.slice(place + 1)];
  }
  let ordered = "";
  function sort(again) {
    const order = chosen("order");
    const stamp = `${order}/${run}/${chosen("label") || chosen("kind")}`;
    if (!again && stamp === ordered) return;
    ordered = stamp;
    const key = chosen("label") || chosen("kind");
    const weight = data.names.map((name, place) => {
      if (!order || order === "name") return 0;
      const sums = sumsOf(run, place, key);
      return order === "faults" ? sums.wrong + sums.missed : sums[order];
    });
    const rank = data.names.map((_, place) => place);
    if (order === "name") rank.sort((a, b) => (data.names[a] < data.names[b] ? -1 : 1));
    else rank.sort((a, b) => weight[b] - weight[a] || a - b);
    at("cards").append(...rank.map((place) => at(`c${place}`)));
  }
  function save() {
    const state = new URLSearchParams();
    const common = commonOf("");
    if (moved) state.set("t", common === null && new Set(Object.values(own)).size > 1 ? Object.entries(own).map(([k, v]) => `${k}@${v === null ? "" : v}`).join("|") : common === null ? "" : common);
    for (const element of form.elements) if (element.name && element.value && !(element.name === "run" && element.value === "0")) state.set(element.name, element.value);
    if (open >= 0) state.set("image", data.names[open]);
    const text = state.toString();
    if (`#${text}` !== location.hash) history.replaceState(null, "", text ? `#${text}` : location.pathname + location.search);
  }
  function restore() {
    const state = new URLSearchParams(location.hash.slice(1));
    for (const element of form.elements) if (element.name) element.value = state.get(element.name) || (element.name === "run" ? "0" : "");
    if (state.has("t")) {
      const text = state.get("t");
      if (text.includes("@")) {
        for (const part of text.split("|")) { const cut = part.lastIndexOf("@"); own[part.slice(0, cut)] = part.slice(cut + 1) === "" ? null : Number(part.slice(cut + 1)); }
      } else setAll(text === "" ? null : Number(text));
      moved = true;
    }
    all(true);
    const image = data.names.indexOf(state.get("image"));
    if (image >= 0) showDetail(image); else if (at("detail").open) at("detail").close();
  }

  // ---- the slider ----------------------------------------------------------
  const slider = at("threshold");
  function setAll(value) {
    rest = value;
    for (const key of Object.keys(own)) own[key] = value;
  }
  function showValue() {
    const key = at("applies").value;
    const value = key ? least(key) : commonOf("");
    const mixed = !key && value === null && new Set(Object.values(own)).size > 1;
    at("value").textContent = mixed ? "chosen" : value === null ? "none" : value.toFixed(2);
    slider.setAttribute("aria-valuetext", at("value").textContent);
    slider.value = value === null ? slider.min : value;
  }
  function ticks() {
    const marks = [];
    if (data.floor) marks.push([data.floor, "floor"]);
    const values = [...new Set(Object.values(start))].filter((value) => value !== null);
    for (const value of values.slice(0, 4)) marks.push([value, values.length > 1 ? "chosen" : "initial"]);
    const low = Number(slider.min);
    at("ticks").replaceChildren(...marks.map(([value, name]) => {
      const made = document.createElement("span");
      made.textContent = `${name} ${value.toFixed(2)}`;
      made.style.left = `calc(8px + (100% - 16px) * ${(value - low) / (1 - low)})`;
      return made;
    }));
  }
  function all(again) {
    showValue();
    showNumbers();
    filter();
    sort(again);
    drawVisible();
  }
  slider.addEventListener("input", () => {
    const value = Number(slider.value) <= Number(slider.min) ? null : Number(slider.value);
    const key = at("applies").value;
    if (key) own[key] = value; else setAll(value);
    moved = true;
    showValue();
    showNumbers();
    if (chosen("state") || chosen("label") || chosen("kind")) filter();
    drawVisible();
  });
  slider.addEventListener("change", () => { filter(); sort(true); save(); });
  at("applies").addEventListener("change", showValue);
  at("reset").addEventListener("click", () => { own = { ...start }; rest = commonStart(); moved = false; all(true); save(); });
  form.addEventListener("input", () => { filter(); sort(false); drawVisible(); save(); });
  form.addEventListener("submit", (event) => event.preventDefault());
  form.addEventListener("reset", () => setTimeout(() => { all(true); save(); }));
  at("cards").addEventListener("click", (event) => {
    const card = event.target.closest(".card");
    if (card && event.target.closest(".sight")) showDetail(Number(card.dataset.place));
  });
  document.addEventListener("click", (event) => {
    const link = event.target.closest("a[data-image]");
    if (!link) return;
    event.preventDefault();
    const image = data.names.indexOf(link.dataset.image);
    if (image >= 0) showDetail(image);
  });
  at("d-close").addEventListener("click", () => at("detail").close());
  at("d-back").addEventListener("click", () => step(-1));
  at("d-next").addEventListener("click", () => step(1));
  at("detail").addEventListener("close", () => { const card = open; open = -1; save(); if (card >= 0) at(`c${card}`).querySelector(".sight").focus({ preventScroll: true }); });
  const sight = dotSight.zoom(at("d-stage"), at("d-frame"), () => { if (open >= 0) drawDetail(); });
  at("d-in").addEventListener("click", () => sight.set(sight.factor() * 1.5));
  at("d-out").addEventListener("click", () => sight.set(sight.factor() / 1.5));
  at("d-fit").addEventListener("click", () => sight.set(1));
  for (const id of ["d-said", "d-shapes"]) at(id).addEventListener("change", drawDetail);
  at("detail").addEventListener("keydown", (event) => {
    if (sight.key(event)) return;
    if (sight.factor() > 1 && event.target === at("d-stage")) return; // the arrows move the picture
    if (event.key === "ArrowRight") step(1);
    if (event.key === "ArrowLeft") step(-1);
  });
  if (at("d-rawbox")) at("d-rawbox").addEventListener("toggle", () => { if (at("d-rawbox").open) showRaw(); });
  window.addEventListener("hashchange", restore);

  if (data.floor) slider.min = Math.max(0, Math.round((data.floor - 0.01) * 100) / 100);
  at("bar").hidden = false;
  form.hidden = false;
  ticks();
  restore();
  for (const card of at("cards").children) watch.observe(card);
})();
