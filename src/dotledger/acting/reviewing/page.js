// The review page. Everything a mouse can do a key can do; every decision is kept at once.
const at = (id) => document.getElementById(id);
let state = { work: [], decided: {} };
let place = 0; // which image
let chosen = 0; // which of its findings, 0 for none
let shown = new Set(); // unsafe images that were asked for
let rawOf = -1;

const current = () => state.work[place];
const mine = (image) => state.decided[image] || {};

async function call(path, body) {
  const options = body === undefined ? {} : {
    method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body),
  };
  const answer = await fetch(path, options);
  const given = await answer.json();
  if (!answer.ok) throw new Error(given.error || answer.statusText);
  return given;
}

async function start() {
  state = await call("work");
  at("where").textContent = `${state.service}, batch ${state.batch} · ${state.who}`;
  place = Math.max(0, nextOpen(-1));
  draw();
}

// The next image without a decision, or -1.
function nextOpen(from) {
  const number = state.work.length;
  for (let step = 1; step <= number; step += 1) {
    const there = (from + step + number) % number;
    if (!mine(state.work[there].image)["0"]) return there;
  }
  return -1;
}

function element(name, text, kind) {
  const made = document.createElement(name);
  if (text !== undefined) made.textContent = text;
  if (kind) made.className = kind;
  return made;
}

function draw() {
  const done = state.work.filter((one) => mine(one.image)["0"]).length;
  at("progress").textContent = state.work.length
    ? `${done} of ${state.work.length} decided` : "Nothing is held.";
  const work = current();
  document.querySelectorAll("button[data-image], button[data-word]").forEach((b) => { b.disabled = !work; });
  if (!work) { at("frame").hidden = true; return; }
  const veiled = work.unsafe && !shown.has(place);
  at("frame").classList.toggle("veiled", veiled);
  at("veil").tabIndex = veiled ? 0 : -1;
  const source = `image/${place}`;
  if (at("picture").getAttribute("src") !== source) at("picture").setAttribute("src", source);
  at("picture").alt = veiled ? "Hidden: something unsafe was found" : work.image;
  at("name").textContent = `${place + 1}. ${work.image}`;
  at("reasons").replaceChildren(...work.reasons.map((one) => element("li", one)));
  drawFound(work);
  drawBoxes(work);
  const whole = mine(work.image)["0"];
  document.querySelectorAll("button[data-image]").forEach((button) => {
    button.setAttribute("aria-pressed", String(Boolean(whole) && whole[0] === button.dataset.image));
  });
  document.querySelectorAll("#onfinding button").forEach((button) => { button.disabled = !chosen; });
  if (at("answer").open) showRaw();
}

function drawFound(work) {
  const rows = work.found.map((one) => {
    const row = element("li");
    row.id = `found-${one.row}`;
    row.setAttribute("role", "option");
    row.setAttribute("aria-selected", String(one.row === chosen));
    row.append(element("span", one.label));
    row.append(element("span", one.kind, "kind"));
    row.append(element("span", one.confidence === null ? "asserted" : one.confidence.toFixed(2), "number"));
    const said = mine(work.image)[String(one.row)];
    if (said) row.append(element("span", said[1] ? `${said[0]}: ${said[1]}` : said[0], "said"));
    row.addEventListener("click", () => { chosen = one.row; draw(); });
    return row;
  });
  if (!rows.length) rows.push(element("li", "Nothing was found."));
  at("found").replaceChildren(...rows);
  if (chosen) {
    at("found").setAttribute("aria-activedescendant", `found-${chosen}`);
    at(`found-${chosen}`)?.scrollIntoView({ block: "nearest" });
  } else at("found").removeAttribute("aria-activedescendant");
}

function drawBoxes(work) {
  const made = [];
  if (work.size) at("boxes").setAttribute("viewBox", `0 0 ${work.size[0]} ${work.size[1]}`);
  for (const one of work.size ? work.found : []) {
    if (!one.box) continue;
    for (const kind of ["under", "over"]) { // a dark line under a light one: seen on any ground
      const box = document.createElementNS("http://www.w3.org/2000/svg", "rect");
      const [x0, y0, x1, y1] = one.box;
      const sides = { x: x0, y: y0, width: x1 - x0, height: y1 - y0 };
      for (const [name, value] of Object.entries(sides)) box.setAttribute(name, value);
      box.classList.add(kind);
      if (kind === "over" && one.row === chosen) box.classList.add("chosen");
      if (chosen && one.row !== chosen) box.classList.add("dim");
      made.push(box);
    }
  }
  at("boxes").replaceChildren(...made, ...(work.size ? besides(work) : []));
}

// Writing, landmarks and outlines, as far as they are wanted.
function besides(work) {
  const boxed = work.found.filter((one) => one.box);
  const unit = dotSight.unitOf(at("boxes"));
  const shapes = at("shapes").checked ? boxed.flatMap((one) => dotSight.shapes(one, unit)) : [];
  return [...shapes, ...(at("said").checked ? dotSight.writing(boxed, work.size, unit, state.place) : [])];
}

function toggle(id) {
  at(id).checked = !at(id).checked;
  if (current()) drawBoxes(current());
}

async function showRaw() {
  if (rawOf === place) return;
  rawOf = place;
  const answer = await fetch(`raw/${place}`);
  at("raw").textContent = await answer.text();
}

function go(to) {
  if (!state.work.length) return;
  place = (to + state.work.length) % state.work.length;
  chosen = 0;
  at("relabel").hidden = true;
  draw();
}

async function decide(row, word, label = "") {
  const work = current();
  if (!work) return;
  try {
    const given = await call("decide", { image: work.image, row, word, label });
    state.decided = given.decided;
  } catch (error) {
    at("progress").textContent = `Not kept: ${error.message}`;
    return;
  }
  const open = row === 0 ? nextOpen(place) : -1;
  if (open >= 0) go(open);
  else draw();
}

async function undo() {
  try {
    const given = await call("undo", {});
    state.decided = given.decided;
    if (given.undone) {
      place = Math.max(0, state.work.findIndex((one) => one.image === given.undone.image));
      chosen = given.undone.row;
    }
    draw();
    if (!given.undone) at("progress").textContent = "There is nothing to undo.";
  } catch (error) { at("progress").textContent = `Not undone: ${error.message}`; }
}

function relabel() {
  if (!chosen) return;
  at("relabel").hidden = false;
  at("label").value = "";
  at("label").focus();
}

function choose(step) {
  const number = current()?.found.length || 0;
  if (!number) return;
  chosen = chosen ? ((chosen - 1 + step + number) % number) + 1 : step > 0 ? 1 : number;
  draw();
}

function show() {
  if (shown.has(place)) shown.delete(place); else shown.add(place);
  draw();
}

const KEYS = {
  p: () => decide(0, "pass"), b: () => decide(0, "block"), s: () => decide(0, "skip"), u: undo, v: show,
  c: () => chosen && decide(chosen, "confirmed"), x: () => chosen && decide(chosen, "box wrong"),
  l: relabel, r: () => { at("answer").open = !at("answer").open; },
  t: () => toggle("said"), m: () => toggle("shapes"),
  ArrowDown: () => choose(1), ArrowUp: () => choose(-1),
  ArrowRight: () => go(place + 1), ArrowLeft: () => go(place - 1),
};

const sight = dotSight.zoom(at("stage"), at("frame"), () => current() && drawBoxes(current()));
// The size of the picture is known when it is there, and writing is as large as the screen says.
at("picture").addEventListener("load", () => sight.set(1));
window.addEventListener("resize", () => current() && drawBoxes(current()));
for (const id of ["said", "shapes"]) at(id).addEventListener("change", () => current() && drawBoxes(current()));
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.target.id === "label") {
    if (event.key === "Escape") { at("relabel").hidden = true; at("found").focus(); }
    return;
  }
  if (event.target.id === "raw" && event.key.startsWith("Arrow")) return;
  if (sight.key(event)) return;
  const does = KEYS[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  if (!does) return;
  event.preventDefault();
  does();
});
at("relabel").addEventListener("submit", (event) => {
  event.preventDefault();
  at("relabel").hidden = true;
  at("found").focus();
  decide(chosen, "label wrong", at("label").value.trim());
});
at("answer").addEventListener("toggle", () => { if (at("answer").open) showRaw(); });
at("picture").addEventListener("error", async () => {
  const answer = await fetch(`image/${place}`);
  if (!answer.ok) at("name").textContent = `${current().image}: ${await answer.text()}`;
});
at("veil").addEventListener("click", show);
at("undo").addEventListener("click", undo);
at("back").addEventListener("click", KEYS.ArrowLeft);
at("next").addEventListener("click", KEYS.ArrowRight);
document.querySelectorAll("button[data-image]").forEach((button) => button.addEventListener("click", () => decide(0, button.dataset.image)));
document.querySelectorAll("button[data-word]").forEach((button) => button.addEventListener("click", () => (button.dataset.word === "label wrong" ? relabel() : chosen && decide(chosen, button.dataset.word))));
start().catch((error) => { at("progress").textContent = error.message; });
