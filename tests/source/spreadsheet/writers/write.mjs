// Writes one table as spreadsheets of two libraries and of a program (ssconvert, Debian's package gnumeric), and as its twin
// in CSV: node write.mjs ../samples
import { execFileSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import ExcelJS from "exceljs";
import XLSX from "xlsx";

const folder = process.argv[2];

// A number that is the same in each run.
let state = 7;
const random = (below) => {
  state = (state * 1103515245 + 12345) % 2147483648;
  return Math.floor((state / 2147483648) * below);
};

const names = ["Harbour", "Mühle", "007", "a, b", 'the "old" town', " blanks ", "line\nbreak", "<tag> & more", "ひかり", "1,5", "2025-01-01", "true"];
const rows = [];
for (let i = 0; i < 240; ++i) {
  const maybe = (value) => (random(7) === 0 ? null : value);
  // From 1905 on: before, the calendars of spreadsheets differ.
  const day = Date.UTC(1905 + random(150), random(12), 1 + random(28));
  rows.push({
    id: i * 37 - 100,
    name: maybe(names[random(names.length)]),
    amount: maybe((random(2000000) - 1000000) / 100),
    large: maybe(random(2147483647) * 1000),
    share: maybe(random(1000000) / 7919),
    day: maybe(new Date(day)),
    at: maybe(new Date(day + random(86400) * 1000)),
    time: maybe(random(86400)),
    flag: maybe(random(2) === 1),
    nothing: null,
  });
}
const columns = Object.keys(rows[0]);
const dayOf = (date) => date.toISOString().slice(0, 10);
const secondOf = (date) => date.toISOString().slice(11, 19);
const timeOf = (seconds) => new Date(seconds * 1000).toISOString().slice(11, 19);

// The twin.
const field = (value, column) => {
  if (value === null) return "";
  if (column === "day") return dayOf(value);
  if (column === "at") return `${dayOf(value)} ${secondOf(value)}`;
  if (column === "time") return timeOf(value);
  return typeof value === "string" ? `"${value.replaceAll('"', '""')}"` : String(value);
};
const lines = rows.map((row) => columns.map((column) => field(row[column], column)).join(","));
writeFileSync(join(folder, "twin.csv"), [columns.join(","), ...lines].join("\n") + "\n");

const formats = { amount: "#,##0.00", day: "dd.mm.yyyy", at: "yyyy-mm-dd hh:mm:ss", time: "hh:mm:ss" };
const serial = (date) => date.getTime() / 86400000 + 25569;
const plain = (row) =>
  columns.map((column) => {
    const value = row[column];
    if (value === null) return null;
    if (column === "day" || column === "at") return serial(value);
    return column === "time" ? value / 86400 : value;
  });

// Of the first library: with a title above, with shared texts, and streamed with texts in the cells.
const exceljs = async (file, title, date1904) => {
  const book = new ExcelJS.Workbook();
  book.properties.date1904 = date1904;
  const sheet = book.addWorksheet("Sessions");
  if (title) sheet.addRows([["Sessions of the network"], [], ["made for the test", null, 5]]);
  sheet.addRow(columns);
  for (const row of rows) {
    const added = sheet.addRow(
      columns.map((column) => (column === "time" && row.time !== null ? row.time / 86400 : row[column])));
    columns.forEach((column, i) => {
      if (formats[column]) added.getCell(i + 1).numFmt = formats[column];
    });
  }
  if (title) book.addWorksheet("Notes").addRow(["nothing to see"]);
  await book.xlsx.writeFile(join(folder, file));
};
await exceljs("a-plain.xlsx", false, false);
await exceljs("a-titled.xlsx", true, false);
await exceljs("a-1904.xlsx", false, true);

const streamed = new ExcelJS.stream.xlsx.WorkbookWriter({ filename: join(folder, "a-streamed.xlsx"), useStyles: true });
const stream = streamed.addWorksheet("Sessions");
stream.addRow(columns).commit();
for (const row of rows) {
  const added = stream.addRow(plain(row));
  columns.forEach((column, i) => {
    if (formats[column]) added.getCell(i + 1).numFmt = formats[column];
  });
  added.commit();
}
stream.commit();
await streamed.commit();

// Of the second: as numbers with formats, and in OpenDocument.
const sheet = XLSX.utils.aoa_to_sheet([columns, ...rows.map(plain)]);
rows.forEach((row, r) =>
  columns.forEach((column, c) => {
    const cell = sheet[XLSX.utils.encode_cell({ r: r + 1, c })];
    if (cell && formats[column]) cell.z = formats[column];
  }));
const book = XLSX.utils.book_new();
XLSX.utils.book_append_sheet(book, sheet, "Sessions");
XLSX.writeFile(book, join(folder, "b.xlsx"), { compression: true });
XLSX.writeFile(book, join(folder, "b-shared.xlsx"), { bookSST: true });

// Of the program, which reads what the second wrote.
execFileSync("ssconvert", [join(folder, "b.xlsx"), join(folder, "c.xlsx")]);
execFileSync("ssconvert", [join(folder, "b.xlsx"), join(folder, "c.ods")]);

// OpenDocument of the second library holds dates as texts of its own: only what it writes by type is taken.
const simple = columns.filter((column) => !["day", "at", "time"].includes(column));
const other = XLSX.utils.aoa_to_sheet([simple, ...rows.map((row) => simple.map((column) => row[column]))]);
const second = XLSX.utils.book_new();
XLSX.utils.book_append_sheet(second, other, "Sessions");
XLSX.writeFile(second, join(folder, "b-simple.ods"), { compression: true });
