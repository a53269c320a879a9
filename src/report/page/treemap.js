// The store as areas: tables, and in them their columns and links. What nothing uses is hatched, so that it can be told
// without colours, too.

// Each with the pattern that tells it without its colour.
const uses = [
  ["asked", "read by measures, queries or readers", null],
  ["computes", "read by other columns alone", "dots"],
  ["holds", "holds tables or their order together", "lines"],
  ["file", "all else of the file", null],
  ["nothing", "used by nothing", "hatch"],
];

function addPatterns(svg, prefix) {
  const defs = svg.append("defs");
  const pattern = (id, size) => defs.append("pattern").attr("id", prefix + id).attr("width", size).attr("height", size)
    .attr("patternUnits", "userSpaceOnUse");
  pattern("hatch", 7).attr("patternTransform", "rotate(45)").append("rect").attr("class", "hatch").attr("width", 2).attr("height", 7);
  pattern("lines", 6).append("rect").attr("class", "hatch").attr("width", 6).attr("height", 1.5);
  pattern("dots", 8).append("circle").attr("class", "hatch").attr("cx", 3).attr("cy", 3).attr("r", 1.6);
}

function treemap(allParts, openPart, openTable) {
  const figure = drawingOf("treemap");
  if (figure === null) return null;
  let open = null; // the table that is looked into
  const legend = figure.append("ul").attr("class", "legend");
  for (const [use, words, pattern] of uses) {
    const entry = legend.append("li");
    const swatch = entry.append("svg").attr("class", "swatch tile " + use).attr("viewBox", "0 0 16 16").attr("aria-hidden", "true");
    if (pattern !== null) addPatterns(swatch, use + "-");
    swatch.append("rect").attr("class", "area").attr("width", 16).attr("height", 16);
    if (pattern !== null) swatch.append("rect").attr("fill", `url(#${use}-${pattern})`).attr("width", 16).attr("height", 16);
    entry.append("span").text(words);
  }
  const back = figure.append("button").attr("type", "button").attr("class", "back").property("hidden", true)
    .text("Show all tables").on("click", () => show(null));
  const svg = figure.append("svg").attr("class", "treemap").attr("role", "group");
  addPatterns(svg, "");
  const patternOf = new Map(uses.map(([use, , pattern]) => [use, pattern]));

  const tables = d3.groups(allParts.map((part, index) => ({ ...part, index })), (part) => part.t)
    .map(([name, parts]) => ({ name, parts, bytes: d3.sum(parts, (part) => part.b) }))
    .sort((a, b) => b.bytes - a.bytes);

  // What would be smaller than a few pixels is one part of its table.
  function children(parts, least) {
    const large = parts.filter((part) => part.b >= least);
    const small = parts.filter((part) => part.b < least);
    const bytes = d3.sum(small, (part) => part.b);
    if (small.length > 0 && bytes > 0) large.push({ n: `${small.length} smaller parts`, b: bytes, u: "file", s: bytesFormat(bytes), p: "", rest: true });
    return large;
  }

  function show(table) {
    open = table;
    back.property("hidden", table === null);
    draw();
    openTable(table);
    if (table !== null) back.node().focus();
  }

  function draw() {
    const width = widthOf(figure);
    const height = Math.round(Math.max(260, Math.min(width * 0.5, 520)));
    const shown = open === null ? tables : tables.filter((table) => table.name === open);
    const all = d3.sum(shown, (table) => table.bytes);
    const least = all * 60 / (width * height);
    const root = d3.hierarchy({
      children: shown.map((table) => ({ table: table.name, bytes: table.bytes, children: children(table.parts, least) })),
    }, (node) => node.children).sum((node) => node.b || 0).sort((a, b) => b.value - a.value);
    d3.treemap().size([width, height]).paddingTop((node) => (node.depth === 1 ? 22 : 0)).paddingInner(1.5).round(true)(root);
    svg.attr("viewBox", `0 0 ${width} ${height}`).attr("aria-label",
      open === null ? "The parts of the store by their bytes" : `The parts of ${open} by their bytes`);
    svg.selectAll("g").remove();

    const heads = svg.selectAll("g.head").data(root.children || []).join("g").attr("class", "head")
      .attr("transform", (node) => `translate(${node.x0},${node.y0})`);
    heads.append("rect").attr("width", (node) => node.x1 - node.x0).attr("height", (node) => Math.min(21, node.y1 - node.y0));
    heads.append("text").attr("x", 5).attr("y", 15)
      .text((node) => fitted(`${node.data.table || "the file"} ${bytesFormat(node.value)}`, node.x1 - node.x0 - 8));
    heads.append("title").text((node) => `${node.data.table || "the file"}: ${bytesFormat(node.value)}`);
    const tableHeads = heads.filter((node) => node.data.table !== "" && open === null)
      .attr("aria-label", (node) => `look into table ${node.data.table}, ${bytesFormat(node.value)}`);
    actsOn(tableHeads, (node) => show(node.data.table));

    const tiles = svg.selectAll("g.tile").data(root.leaves().filter((node) => node.depth === 2)).join("g")
      .attr("class", (node) => "tile " + node.data.u).attr("transform", (node) => `translate(${node.x0},${node.y0})`);
    const wide = (node) => Math.max(0, node.x1 - node.x0);
    const high = (node) => Math.max(0, node.y1 - node.y0);
    tiles.append("rect").attr("class", "area").attr("width", wide).attr("height", high);
    tiles.filter((node) => patternOf.get(node.data.u) !== null).append("rect")
      .attr("fill", (node) => `url(#${patternOf.get(node.data.u)})`).attr("width", wide).attr("height", high);
    const words = (node) => `${node.data.t ? node.data.t + "." : ""}${node.data.n}: ${node.data.s}` +
      (node.data.p ? `, ${node.data.p} of the file` : "") + (node.data.u === "nothing" ? ", used by nothing" : "");
    tiles.append("title").text(words);
    const named = tiles.filter((node) => wide(node) > 44 && high(node) > 18);
    named.append("text").attr("x", 4).attr("y", 14).text((node) => fitted(node.data.n, wide(node) - 6));
    named.filter((node) => high(node) > 34).append("text").attr("class", "size").attr("x", 4).attr("y", 29)
      .text((node) => fitted(node.data.s, wide(node) - 6));
    const columns = tiles.filter((node) => !node.data.rest && node.data.v !== null).attr("aria-label", words);
    actsOn(columns, (node) => openPart(node.data.index));
  }

  drawsAgain(draw);
  return { show };
}
