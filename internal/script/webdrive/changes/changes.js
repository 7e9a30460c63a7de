// Changes a copy of the page as those who work on it do, tells what the page is made of
// before and after, and where an element of it has gone. arguments: a seed, from which
// everything follows. Comes after survey.js.
const [seed] = arguments;
let state = seed >>> 0;
const random = () => { // mulberry32
  state = (state + 0x6d2b79f5) >>> 0;
  let t = Math.imul(state ^ (state >>> 15), 1 | state);
  t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
  return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
};
const one = (list) => list[Math.floor(random() * list.length)];
const words = ["Reserve", "Quay", "Now", "Overview", "Your", "All", "Mooring", "Next", "Details", "Change"];
const made = () => "x" + Math.floor(random() * 1e9).toString(36);

const meant = /^(button|link|textbox|combobox|checkbox|radio|heading|img|cell|tab|searchbox|spinbutton|status|listitem|switch)$/;
const before = survey({}, false);
const fit = before.elements.map((p, i) => i).filter((i) => !before.elements[i].hidden && meant.test(before.elements[i].role));
const index = one(fit);
const original = document.body;
const elements = [...below(original)];
const copy = original.cloneNode(true);
const copies = [...below(copy)];
const target = copies[elements.indexOf(surveyed()[index])];

function reword(e) {
  const texts = [];
  const walk = document.createTreeWalker(e, NodeFilter.SHOW_TEXT);
  while (walk.nextNode()) if (plain(walk.currentNode.data)) texts.push(walk.currentNode);
  if (texts.length) {
    const n = one(texts), all = plain(n.data).split(" ");
    all[Math.floor(random() * all.length)] = one(words);
    n.data = all.join(" ");
  }
  for (const a of ["aria-label", "placeholder", "title", "alt"])
    if (e.hasAttribute(a)) e.setAttribute(a, e.getAttribute(a) + " " + one(words));
}
function reclass(e) {
  const all = (e.getAttribute("class") || "").split(/\s+/).filter(Boolean);
  if (!all.length) return e.setAttribute("class", made());
  const old = one(all), now = made();
  for (const o of copies) if (o.classList.contains(old)) { o.classList.remove(old); o.classList.add(now); }
}
const ways = {
  id: (e) => { e.id = e.id ? e.id + "-" + one(words).toLowerCase() : made(); },
  "another id": (e) => { e.id = made(); },
  class: reclass,
  text: reword,
  position: (e) => {
    const p = e.parentElement;
    if (p.children.length > 1) p.insertBefore(e, one([...p.children].filter((c) => c !== e)));
    else if (p !== copy && p.parentElement) p.parentElement.insertBefore(e, p);
  },
  wrapper: (e) => { const w = document.createElement("div"); e.parentElement.insertBefore(w, e); w.append(e); },
  "wrapper further up": (e) => { if (e.parentElement !== copy) ways.wrapper(e.parentElement); },
  neighbour: (e) => { const n = e.cloneNode(true); n.removeAttribute("id"); reword(n); if (n.textContent !== e.textContent) e.parentElement.insertBefore(n, random() < 0.5 ? e : e.nextSibling); },
  banner: () => { const b = document.createElement("div"); b.textContent = "News of the harbour"; b.style.height = "90px"; copy.prepend(b); },
};
const tableParts = /^(TR|TD|TH|TBODY|THEAD|LI|OPTION|DT|DD)$/;
const done = [];
let there = true;
if (random() < 0.25) {
  there = false;
  done.push("gone");
  target.remove();
} else {
  for (let n = 1 + Math.floor(random() * 2.5); n > 0; n--) {
    const way = one(Object.keys(ways));
    if (way.startsWith("wrapper") && (tableParts.test(target.tagName) || tableParts.test(target.parentElement.tagName))) continue;
    if (done.includes(way)) continue;
    done.push(way);
    ways[way](target);
  }
  if (!done.length) { done.push("id"); ways.id(target); }
}
// A release changes other things too.
for (const e of copies) if (e !== target && !e.contains(target) && !target.contains(e) && random() < 0.05) one([reclass, reword, ways.id])(e);
document.documentElement.replaceChild(copy, original);
headings = null;
const after = survey({}, false);
const found = there ? surveyed().indexOf(target) : -1;
document.documentElement.replaceChild(original, copy);
return { was: before.elements[index], after: after.elements, found, changes: done };
