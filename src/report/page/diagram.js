// Tables and the links between them, in layers: dagre places them, so that arrows cross as little as they can.

function diagram() {
  const figure = drawingOf("diagram");
  if (figure === null) return;
  const { tables, links } = data.diagram;
  if (tables.length === 0) return;
  const linked = new Set(links.flatMap((link) => [link.from, link.to]));
  const alone = tables.filter(([name]) => !linked.has(name)).map(([name]) => name);
  if (alone.length > 0)
    figure.append("p").text(`No link leads to or from ${alone.slice(0, 40).join(", ")}${alone.length > 40 ? ` and ${alone.length - 40} more` : ""}.`);
  if (linked.size === 0) return;
  const region = figure.append("div").attr("class", "wide").attr("role", "group").attr("tabindex", "0")
    .attr("aria-label", "The diagram of tables and links");
  drawsWhenSeen(figure, () => {
    region.selectAll("*").remove();
    drawDiagram(region, tables.filter(([name]) => linked.has(name)), links);
  });
}

// What a reader has to know of a link beside where it leads.
function saidOf(link) {
  const said = [];
  if (link.role) said.push(fitted(link.role, 160));
  if (link.broken) said.push("broken");
  if (link.orphans > 0) said.push(`${link.orphan_rows} rows lead nowhere`);
  return said.join(", ");
}

function drawDiagram(region, tables, links) {
  const letter = 7.2;
  const graph = new dagre.graphlib.Graph({ multigraph: true });
  graph.setGraph({ rankdir: "LR", nodesep: 14, ranksep: 60, marginx: 8, marginy: 8 });
  graph.setDefaultEdgeLabel(() => ({}));
  // Rows of the one side that a link leaves out, told at its table.
  const unused = d3.rollup(links.filter((link) => link.unused > 0), (some) => some, (link) => link.to);
  for (const [name, rows, bytes] of tables) {
    const lines = [bytes === "" ? rows : `${rows}, ${bytes}`];
    for (const link of unused.get(name) || [])
      lines.push(`${link.unused_rows} unused from ${link.from}${link.role ? " as " + link.role : ""}`);
    const longest = d3.max([name, ...lines], (line) => line.length);
    graph.setNode(name, { name, lines, width: Math.min(320, longest * letter + 20), height: 26 + 16 * lines.length });
  }
  links.forEach((link, index) => {
    if (!graph.hasNode(link.from) || !graph.hasNode(link.to)) return;
    const said = saidOf(link);
    const size = said === "" ? {} : { width: said.length * 6 + 8, height: 16, labelpos: "c" };
    graph.setEdge(link.from, link.to, { link, said, ...size }, String(index));
  });
  dagre.layout(graph);
  const { width, height } = graph.graph();
  const svg = region.append("svg").attr("viewBox", `0 0 ${width} ${height}`).attr("width", width).attr("height", height)
    .attr("role", "img").attr("aria-label", `${tables.length} tables and ${links.length} links; the table of links below says the same`);
  svg.append("defs").append("marker").attr("id", "tip").attr("viewBox", "0 0 10 10").attr("refX", 9).attr("refY", 5)
    .attr("markerWidth", 7).attr("markerHeight", 7).attr("orient", "auto-start-reverse").append("path").attr("d", "M0,0L10,5L0,10z");
  const line = d3.line().x((p) => p.x).y((p) => p.y).curve(d3.curveMonotoneX);
  const labels = [];
  for (const edge of graph.edges()) {
    const { points, link, said, x, y } = graph.edge(edge);
    const isBad = link.broken || link.orphans > 0;
    const group = svg.append("g").attr("class", "link" + (link.broken ? " broken" : isBad ? " bad" : ""));
    group.append("path").attr("d", line(points)).attr("marker-end", "url(#tip)");
    group.append("title").text(link.name);
    if (said !== "") labels.push({ said, x, y: y + 4, state: group.attr("class") });
  }
  // Above all lines.
  for (const { said, x, y, state } of labels)
    svg.append("g").attr("class", state).append("text").attr("x", x).attr("y", y).attr("text-anchor", "middle").text(said);
  for (const id of graph.nodes()) {
    const node = graph.node(id);
    const group = svg.append("g").attr("class", "box").attr("transform", `translate(${node.x - node.width / 2},${node.y - node.height / 2})`);
    group.append("rect").attr("width", node.width).attr("height", node.height).attr("rx", 3);
    group.append("text").attr("class", "name").attr("x", 10).attr("y", 18).text(fitted(node.name, node.width - 16, letter));
    node.lines.forEach((text, i) => {
      group.append("text").attr("class", i === 0 ? "" : "warn").attr("x", 10).attr("y", 35 + 16 * i).text(fitted(text, node.width - 16, letter));
    });
  }
}
