const {survey, rows} = JSON.parse(document.getElementById("data").textContent);
const list = document.getElementById("paths"), shown = document.getElementById("shown");
const text = document.getElementById("text"), type = document.getElementById("type");
let found = [], next = 0;

function meter(part, whole) {
  const made = node("span", undefined, "meter"), fill = node("i");
  fill.style.width = whole ? Math.max(100 * part / whole, part ? 1 : 0) + "%" : "0";
  made.append(fill);
  return made;
}

function spread(parts) {
  const made = node("span", undefined, "spread"), most = Math.max(...parts);
  for (const part of parts) {
    const bar = node("i");
    bar.style.height = part ? Math.max(100 * part / most, 4) + "%" : "0";
    bar.title = String(part);
    made.append(bar);
  }
  return made;
}

const written = value => typeof value === "string" ? JSON.stringify(value) : String(value);

function details(path) {
  const made = node("div", undefined, "details"), facts = node("dl");
  const fact = (name, value) => { facts.append(node("dt", name), node("dd", value)); };
  fact("in records", path.records + " of " + survey.records);
  fact("values", String(path.values) + (path.maps ? " in " + path.maps + " maps" : ""));
  if (path.distinct !== undefined) fact("different", (path.distinct_error ? "about " : "") + path.distinct);
  if (path.empty) fact("empty", String(path.empty));
  const measured = path.numbers || path.times;
  if (measured) {
    fact(path.numbers ? "least" : "first", String(path.numbers ? measured.least : measured.first));
    for (const [share, value] of Object.entries(measured.quantiles)) fact(100 * share + " % up to", String(value));
    fact(path.numbers ? "greatest" : "last", String(path.numbers ? measured.greatest : measured.last));
    if (path.numbers && measured.mean !== undefined) fact("mean", String(measured.mean));
  }
  for (const [name, lengths] of [["length", path.text_lengths], ["items", path.list_lengths]])
    if (lengths) fact(name, lengths.least + " to " + lengths.greatest + ", mean " + Number(lengths.mean.toFixed(2)));
  for (const [form, count] of Object.entries(path.forms || {})) fact(form, String(count));
  made.append(facts);
  if (path.frequent) {
    const table = node("table");
    for (const {value, count} of path.frequent) {
      const row = node("tr"), bar = node("td");
      bar.append(meter(count, path.values));
      row.append(node("td", written(value)), bar, node("td", String(count)));
      table.append(row);
    }
    made.append(table);
  }
  if (path.examples) {
    const examples = node("ul", undefined, "examples");
    for (const {value, file, line} of path.examples) {
      const item = node("li");
      item.append(node("code", written(value)), document.createTextNode(" " + (file ? file + ", " : "") + "line " + line));
      examples.append(item);
    }
    made.append(examples);
  }
  return made;
}

function article({path, row}) {
  const made = node("details", undefined, "path"), head = node("summary");
  head.append(node("code", path.path), meter(row.part, row.whole), node("span", row.percent, "percent"), node("span", row.types, "types"));
  const parts = (path.numbers || path.times || {}).spread;
  if (parts && new Set(parts).size > 1) head.append(spread(parts));
  head.append(node("span", row.values, "values"));
  made.append(head);
  made.addEventListener("toggle", () => { if (made.open && made.children.length < 2) made.append(details(path)); });
  return made;
}

function more() {
  const page = document.createDocumentFragment();
  for (const end = Math.min(next + AT_ONCE, found.length); next < end; next++) page.append(article(found[next]));
  list.append(page);
}

function apply() {
  const words = text.value.toLowerCase().split(/\s+/).filter(Boolean);
  found = all.filter(one => (!type.value || one.path.types[type.value]) && words.every(word => one.search.includes(word)));
  list.replaceChildren();
  next = 0;
  shown.value = found.length + " of " + all.length;
  if (!found.length) list.append(node("p", "No path fits.", "none"));
  more();
}

const all = survey.paths.map((path, at) => ({path, row: rows[at], search: (path.path + " " + rows[at].types + " " + rows[at].values).toLowerCase()}));
for (const name of ["null", "boolean", "number", "text", "list", "map"])
  if (survey.paths.some(path => path.types[name])) type.append(node("option", name));

if (survey.kinds.length) {
  const section = document.getElementById("kinds");
  section.append(node("h2", "Kinds of records"));
  for (const kind of survey.kinds) {
    const made = node("article", undefined, "note");
    const line = node("p", undefined, "kind");
    line.append(meter(kind.records, survey.records), node("span", String(kind.records)), node("code", "$[?" + kind.where + "]"));
    if (kind.only.length) line.append(node("span", "with " + kind.only.join(", "), "place"));
    else if (kind.never.length) line.append(node("span", "without " + kind.never.join(", "), "place"));
    made.append(line);
    section.append(made);
  }
}
const told = [
  ...survey.keys.map(key => [key.path, "could be a key" + (key.input ? " of " + key.input : "")]),
  ...survey.references.map(found => [found.path, "in " + found.input + " holds " + found.key + " of " + found.key_input]),
];
const section = document.getElementById("remarks");
for (const [title, lines, style] of [["Keys", told, "note"], ["Worth a look", survey.remarks.map(one => [one.path, one.message]), "warning"]]) {
  if (!lines.length) continue;
  section.append(node("h2", title));
  for (const [path, message] of lines) {
    const made = node("article", undefined, style), line = node("p");
    line.append(node("code", path), document.createTextNode(" " + message));
    made.append(line);
    section.append(made);
  }
}
for (const field of [text, type]) field.addEventListener("input", apply);
whenEndShows(more);
apply();
