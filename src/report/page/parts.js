// What all drawings share.

const data = (() => {
  const element = document.getElementById("data");
  return element === null ? null : JSON.parse(element.textContent);
})();

const svgName = "http://www.w3.org/2000/svg";

function drawingOf(id) {
  const figure = document.getElementById(id);
  return figure === null ? null : d3.select(figure);
}

// How wide a drawing may be.
function widthOf(figure) {
  return Math.max(260, Math.min(figure.node().clientWidth || 960, 1180));
}

// Text that fits into so many pixels; nothing where not even a few letters do.
function fitted(text, pixels, letter = 6.7) {
  const most = Math.floor(pixels / letter);
  if (text.length <= most) return text;
  return most < 4 ? "" : text.slice(0, most - 1) + "…";
}

// Acts on a click, and on Enter and the space bar where it has the focus.
function actsOn(selection, act) {
  selection.attr("role", "button").attr("tabindex", "0").on("click", (event, d) => act(d)).on("keydown", (event, d) => {
    if (event.key !== "Enter" && event.key !== " ") return;
    event.preventDefault();
    act(d);
  });
}

// Draws now, and again whenever the window has another width.
function drawsAgain(draw) {
  let width = innerWidth;
  draw();
  addEventListener("resize", () => {
    if (innerWidth === width) return;
    width = innerWidth;
    draw();
  });
}

// Draws once it is about to be seen, or printed.
function drawsWhenSeen(figure, draw) {
  figure.attr("data-waits", "");
  const first = () => {
    if (figure.attr("data-waits") === null) return;
    figure.attr("data-waits", null);
    drawsAgain(draw);
  };
  addEventListener("beforeprint", first);
  const observer = new IntersectionObserver((entries) => {
    if (!entries.some((entry) => entry.isIntersecting)) return;
    observer.disconnect();
    first();
  }, { rootMargin: "400px" });
  observer.observe(figure.node());
}

const bytesFormat = d3Format();

function d3Format() {
  const units = ["B", "kB", "MB", "GB", "TB"];
  return (bytes) => {
    let unit = 0;
    let value = bytes;
    while (value >= 1000 && unit + 1 < units.length) {
      value /= 1000;
      ++unit;
    }
    return `${Number(value.toPrecision(3))} ${units[unit]}`;
  };
}
