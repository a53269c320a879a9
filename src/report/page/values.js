// The values of one column: the most frequent ones as bars, and where the rows lie between the smallest and the largest.

function showValues(part, allValues) {
  const place = d3.select("#values");
  place.selectAll("*").remove();
  const values = allValues[part.v];
  const panel = place.append("section").attr("class", "values").attr("aria-labelledby", "values-h");
  panel.append("h3").attr("id", "values-h").attr("tabindex", "-1").text(`${part.t}.${part.n}`);
  const nulls = values.nulls > 0 ? `, ${values.nulls_text} rows without one` : "";
  panel.append("p").text(`${values.type}, ${values.distinct} different values${nulls}; ${part.s}, ${part.p} of the file` +
    (part.u === "nothing" ? "; used by nothing" : ""));
  const both = panel.append("div").attr("class", "side-by-side");
  if (values.top.length > 0) drawTop(both, values);
  if (values.ranges.length > 1) drawRanges(both, values);
  if (!values.counted) panel.append("p").text("It has too many different values to tell which are frequent.");
  return panel;
}

function drawTop(place, values) {
  const table = place.append("div").attr("class", "top").append("table");
  table.append("caption").text("The most frequent values");
  const head = table.append("thead").append("tr");
  head.append("th").attr("scope", "col").text("value");
  head.append("th").attr("scope", "col").attr("class", "n").text("rows");
  const most = values.top[0][1];
  const rows = table.append("tbody").selectAll("tr").data(values.top).join("tr");
  rows.append("th").attr("scope", "row").text((d) => (d[0] === "" ? "(empty)" : d[0]));
  const cells = rows.append("td").attr("class", "n");
  cells.append("span").text((d) => d[2]);
  cells.append("svg").attr("class", "bar").attr("viewBox", "0 0 100 10").attr("preserveAspectRatio", "none")
    .attr("aria-hidden", "true").append("rect").attr("height", 10).attr("width", (d) => 100 * d[1] / most);
}

function drawRanges(place, values) {
  const width = 520;
  const height = 200;
  const low = 24;
  const ranges = values.ranges;
  const most = d3.max(ranges, (range) => range[2]);
  const fullest = ranges.find((range) => range[2] === most);
  const figure = place.append("figure").attr("class", "ranges");
  figure.append("figcaption").text("How many rows lie where");
  const svg = figure.append("svg").attr("viewBox", `0 0 ${width} ${height + low}`).attr("role", "img")
    .attr("aria-label", `From ${ranges[0][0]} to ${ranges[ranges.length - 1][1]}; most rows, ${fullest[3]}, lie from ${fullest[0]} to ${fullest[1]}`);
  const x = d3.scaleBand().domain(d3.range(ranges.length)).range([0, width]).paddingInner(0.08);
  const y = d3.scaleLinear().domain([0, most]).range([height, 14]);
  const bars = svg.selectAll("rect").data(ranges).join("rect").attr("class", "range").attr("x", (d, i) => x(i))
    .attr("width", x.bandwidth()).attr("y", (d) => y(d[2])).attr("height", (d) => height - y(d[2]));
  bars.append("title").text((d) => `${d[0]} to ${d[1]}: ${d[3]} rows`);
  svg.append("text").attr("x", 0).attr("y", 10).text(`up to ${fullest[3]} rows`);
  svg.append("text").attr("x", 0).attr("y", height + 17).text(fitted(ranges[0][0], width / 2));
  svg.append("text").attr("x", width).attr("y", height + 17).attr("text-anchor", "end")
    .text(fitted(ranges[ranges.length - 1][1], width / 2));
}
