// Says of every element of a page, or of those within one, what it is known by. Comes after
// finder.js.
const most = 4000, longest = 1 << 20;
const skipped = /^(SCRIPT|STYLE|NOSCRIPT|TEMPLATE|HEAD|META|LINK|TITLE|BASE|BR|WBR)$/;
function survey(query, whole) {
  let root = document.body || document.documentElement;
  if (query.within) root = findIn(document, query.within).find((e) => !hiddenBecause(e)) || root;
  const all = [];
  let more = false;
  for (const e of below(root)) {
    if (skipped.test(e.tagName.toUpperCase()) || e.ownerSVGElement) continue;
    if (all.length === most) { more = true; break; }
    all.push(e);
  }
  Object.defineProperty(window, surveys, { value: all, configurable: true });
  const elements = all.map((e) => {
    const hidden = hiddenBecause(e) || (e.checkVisibility && !e.checkVisibility() ? "hidden" : "");
    const p = portrait(e, hidden);
    const r = e.getBoundingClientRect(), x = r.x + r.width / 2, y = r.y + r.height / 2;
    if (whole && !hidden && p.role && x >= 0 && y >= 0 && x < innerWidth && y < innerHeight) p.covered = covering(e);
    return p;
  });
  const out = { address: location.href, title: document.title, width: innerWidth, height: innerHeight, left: Math.round(scrollX),
    top: Math.round(scrollY), wide: document.documentElement.scrollWidth, tall: document.documentElement.scrollHeight, elements, more, found: [] };
  if (query.find && query.find.by) out.found = findIn(query.within ? root : document, query.find).map((e) => all.indexOf(e)).filter((i) => i >= 0);
  if (whole) out.source = sourceOf(all);
  return out;
}
// The page as text, without what it runs and what people typed; each element has its place
// in the survey. The copy belongs to a document that is not shown: the page sees nothing of
// it, and nothing of it is run or fetched.
function sourceOf(all) {
  const copy = document.implementation.createHTMLDocument("").importNode(document.documentElement, true);
  const copies = copy.querySelectorAll("*"), places = new Map(all.map((e, i) => [e, i]));
  document.documentElement.querySelectorAll("*").forEach((e, i) => { if (places.has(e)) copies[i].setAttribute("data-surveyed", places.get(e)); });
  for (const e of copy.querySelectorAll("script,noscript,iframe,object,embed,link,meta,base")) e.remove();
  for (const e of copy.querySelectorAll("*"))
    for (const a of [...e.attributes]) if (a.name.startsWith("on") || a.name === "value" && e.tagName === "INPUT" && !told(e)) e.removeAttribute(a.name);
  const text = copy.outerHTML;
  return text.length > longest ? "" : text;
}
