// Everything that is drawn, and what leads from one place to another.

const liveTables = new Map();
for (const region of document.querySelectorAll(".table")) liveTables.set(region, new LiveTable(region));
addCopyButtons(document);
addEventListener("beforeprint", () => {
  for (const table of liveTables.values()) {
    table.limit = Infinity;
    table.show();
  }
});

if (data !== null) {
  const { parts, values } = data.treemap || { parts: [], values: [] };
  const weights = Array.from(liveTables.values()).find((table) => table.region.dataset.table === "parts");
  const byName = new Map();
  parts.forEach((part, index) => byName.set(`${part.t}.${part.n}`, index));

  const openPart = (index) => {
    const panel = showValues(parts[index], values);
    panel.node().querySelector("h3").focus();
    panel.node().scrollIntoView({ block: "nearest" });
  };
  // The rows of the table of parts stand in the order of the parts.
  const partOfRow = new Map();
  const inOrder = weights !== undefined && weights.rows.length === parts.length &&
      weights.rows.every((row, index) => !parts[index].c || row.cells[1].textContent === `${parts[index].t}.${parts[index].n}`);
  if (inOrder) weights.rows.forEach((row, index) => partOfRow.set(row, index));

  const leadsToPart = (cell, index) => {
    const button = document.createElement("button");
    button.type = "button";
    button.className = "leads";
    button.append(...cell.childNodes);
    button.addEventListener("click", () => openPart(index));
    cell.append(button);
  };
  for (const [row, index] of partOfRow) {
    if (parts[index].v !== null) leadsToPart(row.cells[1], index);
  }
  for (const table of liveTables.values()) {
    if (table.region.dataset.table !== "findings") continue;
    const place = table.headings.findIndex((heading) => heading.textContent === "where");
    for (const row of table.rows) {
      const index = place < 0 ? undefined : byName.get(row.cells[place].textContent);
      if (index !== undefined && parts[index].v !== null) leadsToPart(row.cells[place], index);
    }
  }

  treemap(parts, openPart, (name) => {
    if (inOrder) weights.narrow(name === null ? null : (row) => parts[partOfRow.get(row)].t === name);
    say(name === null ? "all tables" : "table " + name);
  });
  diagram();
  savings();
  answers();
  history();
}
