// The bytes of the store from one weighing to the next.

function history() {
  const figure = drawingOf("bytes-then");
  if (figure === null || data.history.length < 2) return;
  drawsAgain(() => {
    figure.selectAll("svg").remove();
    const svg = figure.append("svg").attr("class", "answer").attr("role", "img")
      .attr("aria-label", data.history.map((then) => `${then[0]}: ${then[2]}`).join("; "));
    drawBars(svg, "bytes of the store", data.history.map(([x, value, text]) => ({ x, value, text })), Math.min(widthOf(figure), 800), 0,
      d3.max(data.history, (then) => then[1]));
  });
}
