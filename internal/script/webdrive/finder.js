// What scripts that look at pages share: which elements a locator means, what role and name
// they have, whether a person could see and reach them, and what they are known by. Role
// and name follow WAI-ARIA 1.2 and HTML-AAM for the elements that pages are commonly made of.
const plain = (s) => (s || "").replace(/\s+/g, " ").trim();
const parentOf = (e) => e.parentElement || (e.getRootNode() instanceof ShadowRoot ? e.getRootNode().host : null);

// Every element below a root, open shadow trees included, in document order.
function* below(root) {
  for (const e of root.children || []) {
    yield e;
    if (e.shadowRoot) yield* below(e.shadowRoot);
    yield* below(e);
  }
}
function cssIn(root, selector) {
  const found = [...root.querySelectorAll(selector)];
  for (const e of below(root)) if (e.shadowRoot) found.push(...e.shadowRoot.querySelectorAll(selector));
  return [...new Set(found)];
}

const inputRoles = { button: "button", submit: "button", reset: "button", image: "button", checkbox: "checkbox", radio: "radio",
  range: "slider", number: "spinbutton", search: "searchbox", email: "textbox", tel: "textbox", text: "textbox", url: "textbox" };
const tagRoles = { BUTTON: "button", ARTICLE: "article", ASIDE: "complementary", DIALOG: "dialog", FIELDSET: "group", FIGURE: "figure",
  H1: "heading", H2: "heading", H3: "heading", H4: "heading", H5: "heading", H6: "heading", HR: "separator", LI: "listitem",
  MAIN: "main", MENU: "list", METER: "meter", NAV: "navigation", OL: "list", OPTION: "option", OUTPUT: "status", P: "paragraph",
  PROGRESS: "progressbar", SUMMARY: "button", TABLE: "table", TBODY: "rowgroup", TD: "cell", TEXTAREA: "textbox", TFOOT: "rowgroup",
  THEAD: "rowgroup", TR: "row", UL: "list", DETAILS: "group" };
function roleOf(e) {
  const own = plain(e.getAttribute("role")).split(" ")[0];
  if (own) return own;
  switch (e.tagName) {
    case "A": case "AREA": return e.hasAttribute("href") ? "link" : "";
    case "IMG": return e.getAttribute("alt") === "" ? "presentation" : "img";
    case "INPUT": return inputRoles[e.type] || (e.type === "hidden" ? "" : "textbox");
    case "SELECT": return e.multiple || e.size > 1 ? "listbox" : "combobox";
    case "TH": return e.scope === "row" ? "rowheader" : "columnheader";
    case "SECTION": return nameOf(e) ? "region" : "";
    case "FORM": return nameOf(e) ? "form" : "";
    case "HEADER": return e.closest("article,aside,main,nav,section") ? "" : "banner";
    case "FOOTER": return e.closest("article,aside,main,nav,section") ? "" : "contentinfo";
  }
  return tagRoles[e.tagName] || "";
}
const fromContent = new Set(["button", "link", "heading", "option", "cell", "columnheader", "rowheader", "row", "tab", "menuitem",
  "checkbox", "radio", "switch", "treeitem", "tooltip", "listitem"]);
function contentOf(e) {
  let s = "";
  for (const n of e.childNodes) {
    if (n.nodeType === 3) s += n.data;
    else if (n.nodeType === 1 && n.getAttribute("aria-hidden") !== "true" && getComputedStyle(n).display !== "none") {
      const given = n.getAttribute("aria-label") || (n.tagName === "IMG" ? n.alt : "");
      const block = getComputedStyle(n).display !== "inline";
      s += (block ? " " : "") + (given || contentOf(n)) + (block ? " " : "");
    }
  }
  return s;
}
function nameOf(e) {
  const by = plain(e.getAttribute("aria-labelledby"));
  if (by) {
    const parts = by.split(" ").map((id) => e.getRootNode().getElementById(id)).filter(Boolean);
    if (parts.length) return plain(parts.map((p) => p.getAttribute("aria-label") || p.textContent).join(" "));
  }
  const given = plain(e.getAttribute("aria-label"));
  if (given) return given;
  if (e.labels && e.labels.length) return plain([...e.labels].map(labelText).join(" "));
  if (e.tagName === "IMG" || e.tagName === "AREA") return plain(e.alt);
  if (e.tagName === "INPUT" && ["submit", "reset", "button", "image"].includes(e.type))
    return plain(e.value || e.alt || (e.type === "submit" ? "Submit" : e.type === "reset" ? "Reset" : ""));
  if (e.tagName === "FIELDSET") return plain(e.querySelector("legend")?.textContent);
  if (e.tagName === "TABLE") return plain(e.caption?.textContent);
  const own = e.getAttribute("role");
  if (fromContent.has(own || tagRoles[e.tagName] || (e.tagName === "A" ? "link" : e.tagName === "TH" ? "columnheader" : ""))) {
    const c = plain(contentOf(e));
    if (c) return c;
  }
  return plain(e.title || e.getAttribute("placeholder"));
}
// The text of a label without that of the controls inside it.
function labelText(l) {
  const copy = l.cloneNode(true);
  for (const c of copy.querySelectorAll("input,select,textarea,button")) c.remove();
  return copy.textContent;
}
function ownText(e) { return plain(e.innerText === undefined ? e.textContent : e.innerText || e.textContent); }

// The elements of the last survey of this page, by their places in it.
const surveys = Symbol.for("elements that were surveyed");
const surveyed = () => window[surveys] || [];

function findIn(root, f) {
  const same = (s) => s === plain(f.value);
  switch (f.by) {
    case "css": return cssIn(root, f.value);
    case "surveyed": return [surveyed()[f.value]].filter((e) => e && e.isConnected && (root === document || root.contains(e)));
    case "xpath": {
      const r = document.evaluate(f.value, root, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
      return Array.from({ length: r.snapshotLength }, (_, i) => r.snapshotItem(i)).filter((n) => n.nodeType === 1);
    }
    case "attribute": return cssIn(root, "[" + f.attr + "]").filter((e) => same(plain(e.getAttribute(f.attr))));
    case "role": return [...below(root)].filter((e) => roleOf(e) === f.value && (!f.named || nameOf(e) === plain(f.name)));
    case "label": return [...below(root)].filter((e) =>
      (e.labels && [...e.labels].some((l) => same(plain(labelText(l))))) ||
      (/^(INPUT|SELECT|TEXTAREA|BUTTON|METER|OUTPUT|PROGRESS)$/.test(e.tagName) || e.hasAttribute("role") || e.isContentEditable) &&
        (e.hasAttribute("aria-label") || e.hasAttribute("aria-labelledby")) && same(nameOf(e)));
    case "reads": {
      const hits = [...below(root)].filter((e) => !/^(SCRIPT|STYLE|NOSCRIPT|TEMPLATE|HEAD|TITLE)$/.test(e.tagName) &&
        !e.closest("head") && (same(ownText(e)) || (e.tagName === "INPUT" && /^(submit|button|reset)$/.test(e.type) && same(plain(e.value)))));
      return hits.filter((e) => !hits.some((o) => o !== e && e.contains(o)));
    }
  }
  throw new Error("unknown way to find: " + f.by);
}

function called(e) {
  return "<" + e.tagName.toLowerCase() + (e.id ? " id=" + e.id : typeof e.className === "string" && e.className ? " class=" + plain(e.className).split(" ")[0] : "") + ">";
}
// Why an element cannot be seen; "" when it can.
function hiddenBecause(e) {
  for (let a = e; a; a = parentOf(a)) {
    const css = getComputedStyle(a);
    const whose = a === e ? "" : " on its ancestor " + called(a);
    if (css.display === "none") return "display: none" + whose;
    if (css.opacity === "0") return "opacity: 0" + whose;
    if (a !== e && a.tagName === "DETAILS" && !a.open && !(e.closest("summary") && e.closest("summary").parentElement === a))
      return "inside the closed " + called(a);
    if (css.contentVisibility === "hidden" && a !== e) return "content-visibility: hidden" + whose;
  }
  const css = getComputedStyle(e);
  if (css.visibility !== "visible") return "visibility: " + css.visibility;
  const r = e.getBoundingClientRect();
  if ((r.width === 0 || r.height === 0) && ![...e.children].some((c) => { const b = c.getBoundingClientRect(); return b.width && b.height; }))
    return "its size is " + Math.round(r.width) + "×" + Math.round(r.height);
  if (e.tagName === "OPTION" && e.closest("select")) return "";
  if (r.right + scrollX <= 0 || r.bottom + scrollY <= 0) return "outside the page at " + Math.round(r.x) + "," + Math.round(r.y);
  return "";
}
function covering(e) {
  const r = e.getBoundingClientRect();
  const x = r.x + r.width / 2, y = r.y + r.height / 2;
  let top = document.elementFromPoint(x, y);
  while (top && top.shadowRoot && top.shadowRoot.elementFromPoint(x, y) && top.shadowRoot.elementFromPoint(x, y) !== top)
    top = top.shadowRoot.elementFromPoint(x, y);
  if (!top) return "the edge of the viewport";
  if (e.tagName === "OPTION") return "";
  for (let a = top; a; a = parentOf(a)) if (a === e) return "";
  if (e.labels && [...e.labels].some((l) => l.contains(top))) return "";
  for (let a = e; a; a = parentOf(a)) if (a === top && getComputedStyle(e).display === "inline") return "";
  return called(top);
}

// What an element is known by again when its locator no longer finds it.
const kept = (s, n) => { s = plain(s); return s.length > n ? s.slice(0, n) : s; };
const told = (e) => e.tagName === "BUTTON" || e.tagName === "INPUT" && /^(submit|button|reset)$/.test(e.type);
function attributesOf(e) {
  const out = {};
  let n = 0;
  for (const a of e.attributes) {
    if (a.name === "style" || a.name.startsWith("on") || a.name === "value" && !told(e) || ++n > 20) continue;
    out[a.name] = a.value.slice(0, 200);
  }
  return out;
}
// The text beside an element, of the nearest neighbour that has some.
function beside(e, which) {
  for (let a = e, i = 0; a && i < 3; a = a.parentElement, i++)
    for (let n = a[which], j = 0; n && j < 5; n = n[which], j++) {
      if (n.nodeType === 3 && plain(n.data)) return kept(n.data, 60);
      if (n.nodeType === 1 && n.textContent.length < 2000 && plain(n.textContent)) return kept(n.textContent, 60);
    }
  return "";
}
let headings = null;
function headingOf(e) {
  headings = headings || [...document.querySelectorAll("h1,h2,h3,h4,h5,h6")];
  let low = 0, high = headings.length;
  while (low < high) {
    const mid = (low + high) >> 1;
    if (headings[mid].compareDocumentPosition(e) & 4) low = mid + 1; else high = mid;
  }
  return low ? kept(headings[low - 1].textContent, 60) : "";
}
function portrait(e, hidden) {
  const r = e.getBoundingClientRect(), path = [], role = roleOf(e);
  for (let a = parentOf(e); a && path.length < 6; a = parentOf(a)) path.push(a.tagName.toLowerCase());
  let nth = 1;
  for (let s = e.previousElementSibling; s; s = s.previousElementSibling) if (s.tagName === e.tagName) nth++;
  return { tag: e.tagName.toLowerCase(), type: e.tagName === "INPUT" ? e.type : "", role, name: kept(nameOf(e), 80),
    label: e.labels && e.labels.length ? kept(labelText(e.labels[0]), 80) : kept(e.getAttribute("aria-label"), 80),
    text: e.childElementCount > 10 || e.textContent.length > 300 ? "" : kept(ownText(e), 80),
    attrs: attributesOf(e), path, nth, before: beside(e, "previousSibling"), after: beside(e, "nextSibling"), heading: headingOf(e),
    place: [r.x + scrollX, r.y + scrollY, r.width, r.height].map(Math.round), hidden: hidden || "", covered: "" };
}
