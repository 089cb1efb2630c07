const all = JSON.parse(document.getElementById("data").textContent);
const list = document.getElementById("changes"), shown = document.getElementById("shown");
const fields = ["text", "change", "under"].map(id => document.getElementById(id));
let found = [], next = 0;

function side(one, sign) {
  const line = node("pre", undefined, sign === "-" ? "removed" : "added");
  line.append(node("b", sign + " "), document.createTextNode(one.text));
  if (one.place) line.append(node("small", one.place));
  return line;
}

function article(row) {
  const made = node("article", undefined, row.change);
  const head = node("h3");
  head.append(node("span", row.change), node("code", row.path));
  made.append(head);
  if (row.change === "moved") made.append(node("p", "from " + row.old.text, "place"));
  else {
    if (row.old) made.append(side(row.old, "-"));
    if (row.new) made.append(side(row.new, "+"));
  }
  return made;
}

function more() {
  const page = document.createDocumentFragment();
  for (const end = Math.min(next + AT_ONCE, found.length); next < end; next++) page.append(article(found[next]));
  list.append(page);
}

function apply() {
  const [text, change, under] = fields.map(field => field.value);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  found = all.filter(row => (!change || row.change === change) && (!under || row.under === under) && words.every(word => row.search.includes(word)));
  list.replaceChildren();
  next = 0;
  shown.value = found.length + " of " + all.length;
  if (!found.length) list.append(node("p", all.length ? "No change fits." : "Nothing differs.", "none"));
  more();
}

function choices(id) {
  const field = document.getElementById(id), counts = new Map();
  for (const row of all) counts.set(row[id], (counts.get(row[id]) || 0) + 1);
  for (const [value, count] of [...counts].sort((a, b) => b[1] - a[1])) {
    const option = node("option", value + " (" + count + ")");
    option.value = value;
    field.append(option);
  }
  field.hidden = counts.size < 2;
}

for (const row of all) row.search = [row.path, row.change, row.old && row.old.text, row.new && row.new.text].join(" ").toLowerCase();
choices("change"); choices("under");
for (const field of fields) field.addEventListener("input", apply);
whenEndShows(more);
apply();
