// Compares exported tables with their twins in CSV, cell by cell, as programs that are not ours read them:
// node read.mjs FOLDER, which holds csv/, parquet/, arrow/, json/, sqlite/ and xlsx/ (scripts/interchange makes it).
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import { DuckDBInstance } from '@duckdb/node-api';
import { tableFromIPC } from 'apache-arrow';
import ExcelJS from 'exceljs';
import * as wasm from 'parquet-wasm';
import XLSX from 'xlsx';

const folder = process.argv[2];
const description = JSON.parse(readFileSync(path.join(folder, 'csv/datapackage.json'), 'utf8'));

// The fields of a CSV file: null, or a text.
function parse(text) {
  const rows = [[]];
  let i = 0;
  while (i < text.length) {
    let field = null;
    if (text[i] === '"') {
      field = '';
      for (i++; ; i++) {
        if (text[i] === '"' && text[i + 1] !== '"') break;
        if (text[i] === '"') i++;
        field += text[i];
      }
      i++;
    } else {
      const end = /[,\n]/g;
      end.lastIndex = i;
      const at = end.exec(text).index;
      if (at > i) field = text.slice(i, at);
      i = at;
    }
    rows.at(-1).push(field);
    if (text[i] === '\n') rows.push([]);
    i++;
  }
  rows.pop();
  return rows;
}

// Values of any program as one of these: null, a number as a double, or a text.
const plain = (type) => (value) => {
  if (value === null || value === undefined) return null;
  if (type === 'number' || type === 'integer') return Number(value);
  if (type === 'boolean') return String(value === true || value === 1 || value === 'true' || value === 1n);
  return String(value).replace('T', ' ').replace(/\.0+$/, '').replace(/(\.\d*?)0+$/, '$1');
};

let compared = 0;
const differences = [];
function compare(program, resource, rows) {
  const [header, ...expected] = parse(readFileSync(path.join(folder, 'csv', resource.path), 'utf8'));
  if (rows.length !== expected.length) differences.push(`${program} ${resource.name}: ${rows.length} rows, not ${expected.length}`);
  const types = resource.schema.fields.map((field) => plain(field.type));
  expected.forEach((row, r) =>
    header.forEach((name, c) => {
      compared++;
      const here = types[c](row[c]);
      const there = types[c](rows[r]?.[c]);
      if (here !== there) differences.push(`${program} ${resource.name}.${name} row ${r + 1}: ${there}, not ${here}`);
    }),
  );
}

// A table of record batches.
function compareArrow(program, resource, table) {
  const fields = resource.schema.fields;
  const columns = table.schema.fields.map((field, c) => {
    const vector = table.getChildAt(c);
    const type = fields[c].type;
    return (row) => {
      const value = vector.get(row);
      if (value === null) return null;
      if (field.type.scale !== undefined) {
        // Halves of 128 bits, the lower one first.
        const whole = BigInt.asIntN(128, [...value].reduceRight((all, part) => (all << 32n) | BigInt(part >>> 0), 0n));
        return Number(whole) / 10 ** field.type.scale;
      }
      if (type === 'date') return new Date(Number(value)).toISOString().slice(0, 10);
      if (type === 'datetime') return new Date(Number(value)).toISOString().slice(0, 23);
      if (type === 'time') return new Date(Number(value / 1000n)).toISOString().slice(11, 23);
      return value;
    };
  });
  // Its times have milliseconds alone: what is behind them is left to the others.
  const all = [...Array(table.numRows).keys()].map((row) => columns.map((column) => column(row)));
  const [, ...expected] = parse(readFileSync(path.join(folder, 'csv', resource.path), 'utf8'));
  expected.forEach((row, r) =>
    fields.forEach(({ type }, c) => {
      if (type === 'datetime' && row[c]?.includes('.')) all[r][c] = row[c];
    }),
  );
  compare(program, resource, all);
}

const instance = await DuckDBInstance.create(':memory:');
const peer = await instance.connect();
const excel = new ExcelJS.Workbook();
await excel.xlsx.readFile(path.join(folder, 'xlsx/charging.xlsx'));
const sheets = XLSX.readFile(path.join(folder, 'xlsx/charging.xlsx'), { cellDates: false });

for (const resource of description.resources) {
  const fields = resource.schema.fields;
  const stem = resource.path.replace(/\.csv$/, '');
  // Texts of what each program makes of dates and times are those of its own casts.
  const cast = fields
    .map(({ name, type }) => (['date', 'datetime', 'time', 'string'].includes(type) ? `CAST("${name}" AS VARCHAR)` : `"${name}"`))
    .join(', ');
  for (const [form, read] of [
    ['parquet', `read_parquet('${folder}/parquet/${stem}.parquet')`],
    ['json', `read_json('${folder}/json/${stem}.jsonl', columns = {${fields
      .map(({ name, type }) => `"${name}": '${{ integer: 'BIGINT', number: 'DOUBLE', boolean: 'BOOLEAN' }[type] ?? 'VARCHAR'}'`)
      .join(', ')}})`],
  ]) {
    const result = await peer.runAndReadAll(`SELECT ${cast} FROM ${read}`);
    compare(`the peer, ${form}`, resource, result.getRowsJS().map((row) => row.map((value) => value ?? null)));
  }
  for (const [program, table] of [
    ['parquet-wasm', tableFromIPC(wasm.readParquet(readFileSync(path.join(folder, `parquet/${stem}.parquet`))).intoIPCStream())],
    ['apache-arrow', tableFromIPC(readFileSync(path.join(folder, `arrow/${stem}.arrow`)))],
  ])
    compareArrow(program, resource, table);
  const lines = execFileSync('sqlite3', ['-json', path.join(folder, 'sqlite/charging.sqlite'), `SELECT * FROM "${resource.name}"`], { maxBuffer: 1 << 30 });
  const objects = lines.length === 0 ? [] : JSON.parse(lines.toString());
  compare('sqlite3', resource, objects.map((row) => fields.map(({ name }) => row[name])));

  // Spreadsheets show no parts of milliseconds: such moments are texts there.
  const shown = (value, type) => {
    if (value === null || value === undefined) return null;
    if (value instanceof Date) {
      const text = value.toISOString();
      return type === 'date' ? text.slice(0, 10) : type === 'time' ? text.slice(11, 23) : text.slice(0, 23);
    }
    return value;
  };
  const sheet = excel.getWorksheet(resource.name);
  const rows = [];
  sheet.eachRow({ includeEmpty: true }, (row, number) => {
    if (number > 1) rows.push(fields.map(({ type }, c) => shown(row.getCell(c + 1).value, type)));
  });
  compare('exceljs', resource, rows);
  const serials = XLSX.utils.sheet_to_json(sheets.Sheets[resource.name], { header: 1, raw: true, defval: null }).slice(1);
  const ofSerial = (value, type) => {
    if (value === null || typeof value !== 'number' || !['date', 'datetime', 'time'].includes(type)) return value;
    return shown(new Date(Math.round((type === 'time' ? value : value - 25569) * 86400000)), type);
  };
  compare('xlsx', resource, serials.map((row) => fields.map(({ type }, c) => ofSerial(row[c] ?? null, type))));
}
console.log(`${compared} cells compared, ${differences.length} different`);
for (const difference of differences.slice(0, 40)) console.log(difference);
process.exit(differences.length === 0 ? 0 : 1);
