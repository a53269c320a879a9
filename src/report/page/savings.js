// From the bytes of today to what would be left: each kind of finding takes its part off the one before.

function savings() {
  const figure = drawingOf("savings");
  if (figure === null || data.savings.length < 3) return;
  drawsAgain(() => {
    figure.selectAll("svg").remove();
    const width = widthOf(figure);
    const high = 24;
    const steps = data.savings;
    const isNarrow = width < 620;
    const label = isNarrow ? 0 : Math.min(430, width * 0.45);
    const rowHeight = isNarrow ? high + 18 : high;
    const x = d3.scaleLinear().domain([0, steps[0][1]]).range([label, width - 76]);
    let at = steps[0][1];
    const svg = figure.append("svg").attr("viewBox", `0 0 ${width} ${rowHeight * steps.length + 4}`).attr("class", "savings")
      .attr("role", "img").attr("aria-label", steps.map((step) => `${step[0]}: ${step[2]}`).join("; "));
    steps.forEach(([name, bytes, text], i) => {
      const isWhole = i === 0 || i === steps.length - 1;
      // Together they may promise more than there is.
      const from = isWhole ? 0 : Math.max(0, at - bytes);
      const to = isWhole ? bytes : at;
      const top = rowHeight * i + (isNarrow ? 18 : 0);
      if (!isWhole) at = from;
      svg.append("text").attr("x", 0).attr("y", isNarrow ? top - 4 : top + 16).text(fitted(name, isNarrow ? width : label - 8, 7));
      svg.append("rect").attr("class", isWhole ? "whole" : "saved").attr("x", x(from)).attr("y", top + 3)
        .attr("width", Math.max(1, x(to) - x(from))).attr("height", high - 6);
      svg.append("text").attr("x", x(to) + 5).attr("y", top + 16).text((isWhole ? "" : "−") + text);
    });
  });
}
