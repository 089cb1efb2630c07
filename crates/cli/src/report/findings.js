const data = JSON.parse(document.getElementById("data").textContent);
const list = document.getElementById("findings");
const shown = document.getElementById("shown");
const fields = ["text", "file", "severity", "schema"].map(id => document.getElementById(id));
let rows = [], counts = new Map(), next = 0, lastFile = null;

function article(row) {
  const made = node("article", undefined, row.severity);
  const head = node("h3");
  head.append(node("span", row.severity), document.createTextNode(row.message));
  made.append(head);
  if (row.advice) made.append(node("p", row.advice, "advice"));
  const place = node("p", undefined, "place");
  if (row.line) place.append(node("code", row.file + ":" + row.line + ":" + row.column));
  if (row.path) place.append(document.createTextNode(" " + row.path));
  made.append(place);
  if (row.source !== undefined) {
    const characters = Array.from(row.source), from = row.mark, to = from + row.length;
    const line = node("pre");
    line.append(characters.slice(0, from).join(""), node("mark", characters.slice(from, to).join("") || " "), characters.slice(to).join(""));
    made.append(line);
  }
  if (row.schema) {
    const rule = node("p", undefined, "place");
    rule.append(document.createTextNode("by " + (row.rule || "a rule") + " in "), node("code", row.schema + ":" + row.schema_line + ":" + row.schema_column));
    if (row.schema_path) rule.append(document.createTextNode(" " + row.schema_path));
    made.append(rule);
  }
  return made;
}

function more() {
  const page = document.createDocumentFragment();
  for (const end = Math.min(next + AT_ONCE, rows.length); next < end; next++) {
    const row = rows[next];
    if (row.file !== lastFile) {
      const head = node("h2", row.file + " ");
      const count = counts.get(row.file);
      head.append(node("small", count === 1 ? "1 finding" : count + " findings"));
      page.append(head);
      lastFile = row.file;
    }
    page.append(article(row));
  }
  list.append(page);
}

function apply() {
  const [text, file, severity, schema] = fields.map(field => field.value);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  rows = data.findings.filter(row =>
    (!file || row.file === file) && (!severity || row.severity === severity) && (!schema || row.schema === schema) &&
    words.every(word => row.search.includes(word)));
  counts = new Map();
  for (const row of rows) counts.set(row.file, (counts.get(row.file) || 0) + 1);
  list.replaceChildren();
  next = 0; lastFile = null;
  shown.value = rows.length + " of " + data.findings.length;
  if (!rows.length) list.append(node("p", data.findings.length ? "No finding fits." : "Nothing was found.", "none"));
  more();
}

function choices(id, key) {
  const field = document.getElementById(id), counts = new Map();
  for (const row of data.findings) if (row[key]) counts.set(row[key], (counts.get(row[key]) || 0) + 1);
  for (const [value, count] of counts) {
    const option = node("option", value + " (" + count + ")");
    option.value = value;
    field.append(option);
  }
  field.hidden = counts.size < 2;
}

for (const row of data.findings) row.search = [row.message, row.advice, row.file, row.path, row.source, row.schema, row.rule].join(" ").toLowerCase();
choices("file", "file"); choices("severity", "severity"); choices("schema", "schema");
for (const field of fields) field.addEventListener("input", apply);
whenEndShows(more);
apply();
