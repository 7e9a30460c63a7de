// Finds the elements of a locator and says of each whether a person could see
// and reach it. arguments: query, heed, done. With heed it also says which errors nobody
// caught since the last look at this page, where the engine does not tell of them by itself.
// Comes after finder.js.
const [query, heed, answer] = arguments;
const done = (sight) => answer(heed ? Object.assign(sight, { errors: heard() }) : sight);
function heard() {
  const key = Symbol.for("errors that nobody caught");
  const first = !window[key];
  if (first) Object.defineProperty(window, key, { value: [] });
  const all = window[key];
  if (first) {
    const add = (text, address, row, column) => {
      if (all.length < 50) all.push({ text: String(text).slice(0, 2000), address: String(address || ""), row: row | 0, column: column | 0, at: Date.now() });
    };
    addEventListener("error", (e) => { if (e.message) add(e.error || e.message, e.filename, e.lineno, e.colno); });
    addEventListener("unhandledrejection", (e) => add(e.reason, "", 0, 0));
  }
  return all.splice(0);
}
function look() {
  let root = document, within = 0, inside = null;
  if (query.within) {
    const roots = findIn(document, query.within).filter((e) => !hiddenBecause(e));
    within = roots.length;
    if (within !== 1) return { matches: [], total: 0, visible: 0, within };
    root = roots[0];
    if (query.portray) inside = portrait(root, "");
  }
  const all = findIn(root, query.find).map((e) => ({ e, hidden: hiddenBecause(e) }));
  const visible = all.filter((m) => !m.hidden).length;
  const listed = all.slice(0, query.matches);
  for (const m of all) if (!m.hidden && listed.length < query.matches * 2 && !listed.includes(m)) listed.push(m);
  const matches = listed.map(({ e, hidden }) => {
    const r = e.getBoundingClientRect();
    return { el: e, portrait: query.portray && !hidden ? portrait(e, "") : null, tag: e.tagName.toLowerCase(), type: e.tagName === "INPUT" ? e.type : "", text: ownText(e).slice(0, 80) || nameOf(e).slice(0, 80),
      visible: !hidden, hidden, x: r.x, y: r.y, w: r.width, h: r.height, moving: false, covered: "", off: !!e.disabled || e.getAttribute("aria-disabled") === "true" };
  });
  return { matches, total: all.length, visible, within, inside };
}

const sight = look();
if (!query.reach || sight.visible === 0) return done(sight);
const reachable = sight.matches.filter((m) => m.visible);
for (const m of reachable) {
  const r = m.el.getBoundingClientRect();
  if (r.top < 0 || r.left < 0 || r.bottom > innerHeight || r.right > innerWidth || covering(m.el))
    m.el.scrollIntoView({ block: "center", inline: "center", behavior: "instant" });
  m.before = m.el.getBoundingClientRect();
}
let finished = false;
const finish = () => {
  if (finished) return;
  finished = true;
  for (const m of reachable) {
    const r = m.el.getBoundingClientRect();
    m.moving = Math.abs(r.x - m.before.x) + Math.abs(r.y - m.before.y) + Math.abs(r.width - m.before.width) + Math.abs(r.height - m.before.height) > 0.5;
    m.covered = m.moving ? "" : covering(m.el);
    Object.assign(m, { x: r.x, y: r.y, w: r.width, h: r.height });
    delete m.before;
  }
  done(sight);
};
requestAnimationFrame(() => requestAnimationFrame(finish));
setTimeout(finish, 100);
