// The picture of a trial: a number and a text beside each box, landmarks, zoom.
(() => {
  const at = (id) => document.getElementById(id);
  const found = JSON.parse(at("data").textContent);
  const picture = at("picture");
  const { width, height } = picture.viewBox.baseVal;
  function draw() {
    const unit = dotSight.unitOf(picture);
    const boxed = found.map((one, place) => ({ ...one, text: `${place + 1} ${one.text}` })).filter((one) => one.box);
    const shapes = at("shapes").checked ? boxed.flatMap((one) => dotSight.shapes(one, unit)) : [];
    const items = at("said").checked ? boxed : boxed.map((one) => ({ ...one, text: one.text.split(" ", 1)[0] }));
    at("besides").replaceChildren(...shapes, ...dotSight.writing(items, [width, height], unit, "near"));
  }
  const sight = dotSight.zoom(at("stage"), at("frame"), draw);
  at("in").addEventListener("click", () => sight.set(sight.factor() * 1.5));
  at("out").addEventListener("click", () => sight.set(sight.factor() / 1.5));
  at("fit").addEventListener("click", () => sight.set(1));
  for (const id of ["said", "shapes"]) at(id).addEventListener("change", draw);
  document.addEventListener("keydown", (event) => sight.key(event));
  window.addEventListener("resize", draw);
  draw();
})();
