// The answer of a query as a chart: by time a line, by names bars, by two keys a small chart for each value of one.

function answers() {
  for (const element of document.querySelectorAll("figure.answer")) {
    const chart = data.charts[Number(element.dataset.answer)];
    if (chart === null) {
      element.remove();
      continue;
    }
    const figure = d3.select(element);
    let measure = 0;
    if (chart.measures.length > 1) {
      const label = figure.append("label").text("Drawn: ");
      const choice = label.append("select").on("change", (event) => {
        measure = Number(event.target.value);
        draw();
      });
      choice.selectAll("option").data(chart.measures).join("option").attr("value", (d, i) => i).text((d) => d[0]);
    }
    const draw = () => {
      figure.selectAll("svg, p").remove();
      drawAnswer(figure, chart, chart.measures[measure]);
      if (chart.left_out > 0)
        figure.append("p").text(chart.left_out === 1 ? "One row has no time, and is not drawn." : `${chart.left_out} rows have no time, and are not drawn.`);
    };
    drawsWhenSeen(figure, draw);
  }
}

const mostPanels = 24;
const mostBars = 40;

function drawAnswer(figure, chart, [name, texts, numbers]) {
  const points = chart.x.map((x, i) => ({ x, panel: chart.panel[i], text: texts[i], value: numbers[i] }));
  const allPanels = chart.panel.length === 0 ? [[null, points]] : d3.groups(points, (point) => point.panel);
  const panels = allPanels.slice(0, mostPanels);
  const least = Math.min(0, d3.min(points, (point) => point.value) || 0);
  const most = Math.max(0, d3.max(points, (point) => point.value) || 0);
  const whole = widthOf(figure);
  const width = panels.length === 1 ? Math.min(whole, 900) : Math.max(250, Math.min(whole, 1180) / Math.floor(whole / 300 || 1) - 14);
  for (const [panel, some] of panels) {
    const svg = figure.append("svg").attr("class", "answer").attr("role", "img");
    const title = panel === null ? name : `${name}, ${panel}`;
    const largest = d3.greatest(some.filter((point) => point.value !== null), (point) => point.value);
    svg.attr("aria-label", title + (largest === undefined ? "" : `: ${some.length} values, the largest ${largest.text} at ${largest.x}`));
    if (chart.kind === "line") drawLine(svg, title, some, width, least, most);
    else drawBars(svg, title, some.slice(0, mostBars), width, least, most);
  }
  const longest = chart.kind === "bars" ? d3.max(panels, ([, some]) => some.length) : 0;
  if (longest > mostBars) figure.append("p").text(`Of up to ${longest} values the first ${mostBars} are drawn; the table has all.`);
  if (allPanels.length > panels.length) figure.append("p").text(`Of ${allPanels.length} charts the first ${panels.length} are drawn.`);
}

function drawLine(svg, title, points, width, least, most) {
  const height = 190;
  const left = 62;
  const bottom = height - 26;
  svg.attr("viewBox", `0 0 ${width} ${height}`).attr("width", width).attr("height", height);
  svg.append("text").attr("class", "name").attr("x", 0).attr("y", 12).text(fitted(title, width, 7));
  const x = d3.scalePoint().domain(d3.range(points.length)).range([left, width - 12]);
  const y = d3.scaleLinear().domain([least, most === least ? least + 1 : most]).nice(4).range([bottom, 26]);
  const format = Math.max(Math.abs(least), Math.abs(most)) < 10 ? d3.format(".3~f") : d3.format("~s");
  for (const tick of y.ticks(4)) {
    svg.append("line").attr("class", "grid").attr("x1", left).attr("x2", width - 12).attr("y1", y(tick)).attr("y2", y(tick));
    svg.append("text").attr("x", left - 6).attr("y", y(tick) + 4).attr("text-anchor", "end").text(format(tick));
  }
  const line = d3.line().defined((point) => point.value !== null).x((point, i) => x(i)).y((point) => y(point.value));
  svg.append("path").attr("class", "line").attr("d", line(points));
  const dots = svg.selectAll("circle").data(points.map((point, i) => ({ ...point, i })).filter((point) => point.value !== null))
    .join("circle").attr("class", "dot").attr("cx", (point) => x(point.i)).attr("cy", (point) => y(point.value)).attr("r", points.length > 80 ? 1.5 : 3);
  dots.append("title").text((point) => `${point.x}: ${point.text}`);
  svg.append("text").attr("x", left).attr("y", height - 8).text(fitted(points[0].x, width / 2 - left));
  svg.append("text").attr("x", width - 12).attr("y", height - 8).attr("text-anchor", "end").text(fitted(points[points.length - 1].x, width / 2));
}

function drawBars(svg, title, points, width, least, most) {
  const high = 20;
  const label = Math.min(190, width * 0.36);
  svg.attr("viewBox", `0 0 ${width} ${24 + high * points.length}`).attr("width", width).attr("height", 24 + high * points.length);
  svg.append("text").attr("class", "name").attr("x", 0).attr("y", 12).text(fitted(title, width, 7));
  const x = d3.scaleLinear().domain([least, most === least ? least + 1 : most]).range([label, width - 96]);
  points.forEach((point, i) => {
    const top = 22 + high * i;
    svg.append("text").attr("x", label - 6).attr("y", top + 14).attr("text-anchor", "end").text(fitted(point.x, label - 8, 7));
    if (point.value === null) return;
    svg.append("rect").attr("class", "range").attr("x", Math.min(x(0), x(point.value))).attr("y", top + 3)
      .attr("width", Math.max(1, Math.abs(x(point.value) - x(0)))).attr("height", high - 6);
    svg.append("text").attr("x", Math.max(x(0), x(point.value)) + 5).attr("y", top + 14).text(point.text);
  });
}
