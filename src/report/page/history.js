// Bytes and times from one weighing, or one revision, to the next.

function history() {
  const weighings = drawingOf("weighings");
  if (weighings !== null && data.weighings.length > 1) {
    drawsAgain(() => {
      weighings.selectAll("svg").remove();
      const svg = weighings.append("svg").attr("class", "answer").attr("role", "img")
        .attr("aria-label", data.weighings.map((then) => `${then[0]}: ${then[2]}`).join("; "));
      drawBars(svg, "bytes of the store", data.weighings.map(([x, value, text]) => ({ x, value, text })),
        Math.min(widthOf(weighings), 800), 0, d3.max(data.weighings, (then) => then[1]));
    });
  }
  const revisions = drawingOf("revisions");
  if (revisions !== null) {
    drawsWhenSeen(revisions, () => {
      revisions.selectAll("svg").remove();
      drawRevisions(revisions);
    });
  }
}

// Each figure has a scale of its own: what counts is how it has moved.
function drawRevisions(figure) {
  const { revisions, bytes, times } = data.revisions;
  const figures = times.map(([name, numbers, texts]) => [`${name}, ms`, numbers, texts]);
  if (bytes.some((each) => each !== null))
    figures.unshift(["bytes of the store", bytes.map((each) => (each === null ? null : each[0])), bytes.map((each) => (each === null ? "" : each[1]))]);
  const whole = widthOf(figure);
  const width = Math.max(250, whole / Math.max(1, Math.floor(whole / 380)) - 14);
  for (const [name, numbers, texts] of figures) {
    const points = revisions.map((x, i) => ({ x, value: numbers[i], text: texts[i] })).filter((point) => point.value !== null);
    if (points.length === 0) continue;
    const last = points[points.length - 1];
    const svg = figure.append("svg").attr("class", "answer").attr("role", "img")
      .attr("aria-label", `${name}: ${points[0].text} at first, ${last.text} now`);
    drawLine(svg, name, points, width, 0, d3.max(points, (point) => point.value));
  }
}
