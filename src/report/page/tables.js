// Tables that can be sorted by each column and narrowed to the rows that hold a text. Without a script they are whole, in
// the order in which they were written.

const manyRows = 12; // from which on a table can be searched
const shownRows = 100; // of a table, until more are asked for

// The numbers and texts by which a cell is sorted.
function sortKey(cell) {
  if (cell === undefined) return { text: "" };
  const exact = cell.dataset.v;
  return exact === undefined ? { text: cell.textContent } : { number: Number(exact), text: cell.textContent };
}

function compareKeys(a, b) {
  if (a.number !== undefined && b.number !== undefined) return a.number - b.number;
  if (a.number !== undefined || b.number !== undefined) return a.number !== undefined ? 1 : -1;
  return a.text.localeCompare(b.text);
}

function say(text) {
  const said = document.getElementById("said");
  if (said !== null) said.textContent = text;
}

// Everything that a table can do: `narrow(test)` leaves the rows for which test(row) holds.
class LiveTable {
  constructor(region) {
    this.region = region;
    this.body = region.querySelector("tbody");
    this.rows = Array.from(this.body.rows);
    this.search = "";
    this.test = null;
    this.limit = shownRows;
    this.headings = Array.from(region.querySelectorAll("thead th"));
    for (const heading of this.headings) this.makeSortable(heading);
    if (this.rows.length >= manyRows) this.addSearch();
    this.more = document.createElement("button");
    this.more.type = "button";
    this.more.className = "more";
    this.more.addEventListener("click", () => {
      this.limit = Infinity;
      this.show();
    });
    region.after(this.more);
    this.show();
  }

  makeSortable(heading) {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...heading.childNodes);
    heading.append(button);
    button.addEventListener("click", () => {
      const ascends = heading.getAttribute("aria-sort") === "descending" ||
          (heading.getAttribute("aria-sort") === null && !heading.classList.contains("n"));
      for (const other of this.headings) other.removeAttribute("aria-sort");
      heading.setAttribute("aria-sort", ascends ? "ascending" : "descending");
      this.sort(heading.cellIndex, ascends ? 1 : -1);
    });
  }

  // Totals stay at the foot; what belongs to a row above has no order of its own.
  sort(column, direction) {
    const keyed = this.rows.map((row) => ({ row, key: sortKey(row.cells[column]) }));
    const total = (row) => (row.classList.contains("strong") && this.region.dataset.table === "tables" ? 1 : 0);
    keyed.sort((a, b) => total(a.row) - total(b.row) || direction * compareKeys(a.key, b.key));
    this.rows = keyed.map(({ row }) => row);
    this.body.replaceChildren(...this.rows);
    this.show();
    say("sorted by " + this.headings.find((h) => h.cellIndex === column).textContent);
  }

  addSearch() {
    const label = document.createElement("label");
    label.className = "search";
    label.append("Rows that hold ");
    const field = document.createElement("input");
    field.type = "search";
    field.addEventListener("input", () => {
      this.search = field.value.toLowerCase();
      this.show();
    });
    label.append(field);
    this.count = document.createElement("span");
    this.count.className = "count";
    label.append(this.count);
    this.region.before(label);
  }

  narrow(test) {
    this.test = test;
    this.show();
  }

  show() {
    for (const detail of this.body.querySelectorAll("tr.detail")) detail.remove();
    let passing = 0;
    for (const row of this.rows) {
      const passes = (this.test === null || this.test(row)) &&
          (this.search === "" || row.textContent.toLowerCase().includes(this.search));
      passing += passes ? 1 : 0;
      row.hidden = !passes || passing > this.limit;
    }
    const isWhole = passing === this.rows.length;
    if (this.count !== undefined) this.count.textContent = isWhole ? "" : ` ${passing} of ${this.rows.length}`;
    this.more.hidden = passing <= this.limit;
    this.more.textContent = `Show all ${passing} rows`;
  }
}

// Commands are there to be carried away.
function addCopyButtons(root) {
  for (const code of root.querySelectorAll("[data-table=findings] td code, [data-table=remedies] td code")) {
    const button = document.createElement("button");
    button.type = "button";
    button.className = "copy";
    button.textContent = "copy";
    button.setAttribute("aria-label", "copy " + code.textContent);
    button.addEventListener("click", () => copyText(code, button));
    code.after(button);
  }
}

function copyText(code, button) {
  const done = (word) => {
    button.textContent = word;
    say(word + ": " + code.textContent);
    setTimeout(() => (button.textContent = "copy"), 2000);
  };
  // Pages from the disk may have no clipboard: then the text is marked, so that a key copies it.
  const mark = () => {
    const range = document.createRange();
    range.selectNodeContents(code);
    getSelection().removeAllRanges();
    getSelection().addRange(range);
    done(document.execCommand("copy") ? "copied" : "marked");
  };
  if (navigator.clipboard === undefined) return mark();
  navigator.clipboard.writeText(code.textContent).then(() => done("copied"), mark);
}
