// Writes the Parquet samples of the tests, and their twin in CSV, with writers that are not ours: node write.mjs FOLDER [ROWS]
// (npm install here first). Every file holds some of the columns of twin.csv, for the same rows.
import fs from 'node:fs';
import path from 'node:path';
import { gzipSync, brotliCompressSync } from 'node:zlib';
import { DuckDBInstance } from '@duckdb/node-api';
import * as arrow from 'apache-arrow';
import { parquetWriteBuffer } from 'hyparquet-writer';
import * as wasm from 'parquet-wasm';

const folder = process.argv[2];
const rows = Number(process.argv[3] ?? 270);
fs.mkdirSync(path.join(folder, '../other'), { recursive: true });
fs.mkdirSync(folder, { recursive: true });

// --- the data ---------------------------------------------------------------------------------------------------------

let state = 12345n;
function random(below) {
  state = (state * 6364136223846793005n + 1442695040888963407n) & 0xffffffffffffffffn;
  return Number((state >> 33n) % BigInt(below));
}
const pad = (number, digits) => String(number).padStart(digits, '0');
const days = (day) => new Date(Date.UTC(1970, 0, 1) + day * 86400000).toISOString().slice(0, 10);
const clock = (us) => {
  const second = us / 1000000n;
  const part = us % 1000000n;
  const text = `${pad(second / 3600n, 2)}:${pad((second / 60n) % 60n, 2)}:${pad(second % 60n, 2)}`;
  return part === 0n ? text : `${text}.${pad(part, 6)}`;
};
const moment = (us) => {
  const day = us >= 0n ? us / 86400000000n : (us - 86399999999n) / 86400000000n;
  return `${days(Number(day))} ${clock(us - day * 86400000000n)}`;
};
const decimal = (units, scale) => {
  const sign = units < 0n ? '-' : '';
  const digits = pad(units < 0n ? -units : units, scale + 1);
  return `${sign}${digits.slice(0, -scale)}.${digits.slice(-scale)}`;
};
const extremes = (list) => (i) => list[i] ?? BigInt(random(2000000) - 1000000);
const words = ['', 'a', 'Größe', '充電', 'with, comma', 'with "quotes"', 'two\nlines', 'x'.repeat(70)];

// Of each column: its value as JavaScript has it, as CSV has it, and its type for each writer.
const columns = {
  id: { value: (i) => i, sql: 'INTEGER', nulls: false, arrow: new arrow.Int32(), hyp: 'INT32' },
  flag: { value: (i) => i % 3 === 0 || i > 200, sql: 'BOOLEAN', arrow: new arrow.Bool(), hyp: 'BOOLEAN' },
  i8: { value: (i) => [-128, 127][i] ?? random(256) - 128, sql: 'TINYINT', arrow: new arrow.Int8() },
  i16: { value: (i) => [-32768, 32767][i] ?? random(100) - 50, sql: 'SMALLINT', arrow: new arrow.Int16() },
  i32: { value: (i) => [-2147483648, 2147483647][i] ?? i * 7 - 900, sql: 'INTEGER', arrow: new arrow.Int32(), hyp: 'INT32' },
  i64: { value: extremes([-9223372036854775808n, 9223372036854775807n, 0n]), sql: 'BIGINT', arrow: new arrow.Int64(), hyp: 'INT64' },
  u8: { value: (i) => [0, 255][i] ?? random(256), sql: 'UTINYINT', arrow: new arrow.Uint8() },
  u16: { value: (i) => [0, 65535][i] ?? random(9), sql: 'USMALLINT', arrow: new arrow.Uint16() },
  u32: { value: (i) => [0, 4294967295][i] ?? random(100000), sql: 'UINTEGER', arrow: new arrow.Uint32() },
  u64: { value: (i) => [0n, 9223372036854775807n][i] ?? BigInt(random(100000)), sql: 'UBIGINT', arrow: new arrow.Uint64() },
  f32: { value: (i) => Math.fround((random(2000) - 1000) / 7), sql: 'FLOAT', arrow: new arrow.Float32(), hyp: 'FLOAT' },
  f64: { value: (i) => [5e-324, 1.7976931348623157e308, -0.1][i] ?? (random(2000) - 1000) / 11, sql: 'DOUBLE', arrow: new arrow.Float64(), hyp: 'DOUBLE' },
  few: { value: (i) => words[i % words.length], sql: 'VARCHAR', arrow: new arrow.Utf8(), hyp: 'STRING' },
  many: { value: (i) => `key ${pad(i * 37 % 1000, 4)} of ${i}`, sql: 'VARCHAR', arrow: new arrow.Utf8(), hyp: 'STRING' },
  day: { value: (i) => [-719162, 2932896, 0][i] ?? 19000 + random(900), text: days, sql: 'DATE', arrow: new arrow.DateDay() },
  at: { value: (i) => [0n, 86399999999n][i] ?? BigInt(random(86400)) * 1000000n + BigInt(random(1000)), text: clock, sql: 'TIME', arrow: new arrow.TimeMicrosecond() },
  at_ms: { value: (i) => random(86400) * 1000 + random(1000), text: (ms) => clock(BigInt(ms) * 1000n), arrow: new arrow.TimeMillisecond() },
  ts: { value: (i) => [-62135596800000000n, 253402300799999999n, -1n][i] ?? 1700000000000000n + BigInt(random(1e9)) * 1000n, text: moment, sql: 'TIMESTAMP', arrow: new arrow.TimestampMicrosecond() },
  ts_ms: { value: (i) => 1700000000000n + BigInt(random(1e9)), text: (ms) => moment(ms * 1000n), sql: 'TIMESTAMP_MS', arrow: new arrow.TimestampMillisecond() },
  ts_ns: { value: (i) => 1700000000000000000n + BigInt(random(1e9)) * 1000n, text: (ns) => moment(ns / 1000n), sql: 'TIMESTAMP_NS', arrow: new arrow.TimestampNanosecond() },
  d9: { value: (i) => BigInt([-999999999, 999999999][i] ?? random(100000)), text: (u) => decimal(u, 2), sql: 'DECIMAL(9,2)' },
  d18: { value: (i) => [-999999999999999999n, 999999999999999999n][i] ?? BigInt(random(1e9)), text: (u) => decimal(u, 4), sql: 'DECIMAL(18,4)' },
  d38: { value: (i) => [-9223372036854775808n, 9223372036854775807n][i] ?? BigInt(random(1e9)) - 500000000n, text: (u) => decimal(u, 6), sql: 'DECIMAL(38,6)' },
  uuid: { value: (i) => `0${pad(i.toString(16), 7)}-0000-4000-8000-${pad((i * 99991).toString(16), 12)}`, sql: 'UUID', hyp: 'UUID' },
  none: { value: () => null, text: () => null, sql: 'INTEGER', arrow: new arrow.Int32() },
  'st.a': { value: (i) => i * 2, arrow: new arrow.Int32(), sql: 'INTEGER' },
  'st.in.b': { value: (i) => `inner ${i % 5}`, arrow: new arrow.Utf8(), sql: 'VARCHAR' },
};
const names = Object.keys(columns);
names.forEach((name, c) => {
  const column = columns[name];
  column.values = Array.from({ length: rows }, (_, i) => {
    const value = column.value(i);
    return column.nulls !== false && i > 3 && (i + c) % 7 === 0 ? null : value;
  });
});
// A structure that is null has no values in it.
for (let i = 4; i < rows; i += 11) {
  columns['st.a'].values[i] = null;
  columns['st.in.b'].values[i] = null;
}
const csv_text = (column, value) => {
  if (value === null) return '';
  const text = column.text ? column.text(value) : String(value);
  return column.sql === 'VARCHAR' ? `"${text.replaceAll('"', '""')}"` : text;
};
const lines = [names.join(',')];
for (let i = 0; i < rows; ++i) lines.push(names.map((name) => csv_text(columns[name], columns[name].values[i])).join(','));
const twin = path.join(folder, 'twin.csv');
fs.writeFileSync(twin, lines.join('\n') + '\n');

// --- the writers ------------------------------------------------------------------------------------------------------

async function by_sql_engine() {
  const connection = await (await DuckDBInstance.create(':memory:')).connect();
  const typed = names.filter((name) => columns[name].sql);
  const all = names.map((name) => `'${name}': 'VARCHAR'`).join(', ');
  const casts = typed
    .filter((name) => !name.startsWith('st.'))
    .map((name) => `"${name}"::${columns[name].sql} AS "${name}"`)
    .join(', ');
  await connection.run(`CREATE TABLE t AS SELECT ${casts},
    CASE WHEN "st.a" IS NOT NULL OR "st.in.b" IS NOT NULL THEN {'a': "st.a"::INTEGER, 'in': {'b': "st.in.b"}} END AS st
    FROM read_csv('${twin}', header = true, columns = {${all}}, nullstr = '', allow_quoted_nulls = false, parallel = false)`);
  await connection.run('ALTER TABLE t ALTER COLUMN id SET NOT NULL');
  const copy = (name, options) =>
    connection.run(`COPY (SELECT * FROM t ORDER BY id) TO '${path.join(folder, name)}' (FORMAT parquet, ${options})`);
  for (const codec of ['uncompressed', 'snappy', 'gzip', 'zstd', 'brotli', 'lz4_raw'])
    await copy(`a-${codec}-v1.parquet`, `COMPRESSION ${codec}, PARQUET_VERSION V1`);
  await copy('a-zstd-v2.parquet', 'COMPRESSION zstd, PARQUET_VERSION V2');
  // What is refused, beside what is not: outside of the twin.
  await connection.run(`COPY (SELECT 1 AS id, [1, 2] AS tags, MAP {'a': 1} AS marks, INTERVAL 1 DAY AS span, {'x': [1]} AS deep,
    'a"b' AS "with ""quotes""", 7 AS "Größe der Säule") TO '${path.join(folder, '../other/nested.parquet')}' (FORMAT parquet)`);
  await connection.run(`COPY (SELECT * FROM (VALUES (1, 1.5::DOUBLE, 'a'), (2, 'NaN'::DOUBLE, 'n/a'), (3, NULL, NULL)) v(id, x, t))
    TO '${path.join(folder, '../other/nan.parquet')}' (FORMAT parquet)`);
  await copy('a-no-dictionary-v2.parquet', 'COMPRESSION snappy, PARQUET_VERSION V2, STRING_DICTIONARY_PAGE_SIZE_LIMIT 1');
}

// A vector of values as they stand in memory: the library would take moments as milliseconds.
function vector_of(column) {
  const type = column.arrow;
  if (arrow.DataType.isUtf8(type) || arrow.DataType.isBool(type)) return arrow.vectorFromArray(column.values, type);
  const data = new type.ArrayType(rows);
  const nullBitmap = new Uint8Array(Math.ceil(rows / 8));
  let nullCount = 0;
  column.values.forEach((value, i) => {
    if (value === null) {
      ++nullCount;
    } else {
      data[i] = value;
      nullBitmap[i >> 3] |= 1 << (i & 7);
    }
  });
  return arrow.makeVector(arrow.makeData({ type, length: rows, nullCount, nullBitmap, data }));
}

function by_arrow() {
  const wanted = names.filter((name) => columns[name].arrow && !name.startsWith('st.'));
  const vectors = Object.fromEntries(
    wanted.map((name) => [name, vector_of(columns[name])]));
  // Texts as a dictionary: the writer's pages keep it.
  vectors.few = arrow.vectorFromArray(columns.few.values, new arrow.Dictionary(new arrow.Utf8(), new arrow.Int32()));
  const kept = new arrow.Table(vectors);
  const write = (name, build) => {
    const input = wasm.Table.fromIPCStream(arrow.tableToIPC(kept, 'stream'));
    const properties = build(new wasm.WriterPropertiesBuilder()).build();
    fs.writeFileSync(path.join(folder, name), wasm.writeParquet(input, properties));
  };
  const { Compression, Encoding, WriterVersion } = wasm;
  write('b-snappy-v1.parquet', (b) => b.setCompression(Compression.SNAPPY).setWriterVersion(WriterVersion.V1));
  write('b-gzip-v2.parquet', (b) => b.setCompression(Compression.GZIP).setWriterVersion(WriterVersion.V2));
  write('b-brotli-plain-v2.parquet', (b) =>
    b.setCompression(Compression.BROTLI).setWriterVersion(WriterVersion.V2).setDictionaryEnabled(false).setEncoding(Encoding.PLAIN));
  write('b-lz4-groups-v1.parquet', (b) =>
    b.setCompression(Compression.LZ4).setWriterVersion(WriterVersion.V1).setMaxRowGroupSize(64));
  write('b-zstd-pages-v2.parquet', (b) =>
    b.setCompression(Compression.ZSTD).setWriterVersion(WriterVersion.V2).setDataPageSizeLimit(200).setDictionaryPageSizeLimit(64)
      .setMaxRowGroupSize(150));
  write('b-delta-v2.parquet', (b) => {
    b = b.setCompression(Compression.UNCOMPRESSED).setWriterVersion(WriterVersion.V2).setDictionaryEnabled(false);
    for (const name of ['id', 'i8', 'i16', 'i32', 'i64', 'u8', 'u16', 'u32', 'u64', 'day', 'at', 'ts', 'ts_ms', 'ts_ns', 'none'])
      b = b.setColumnEncoding(name, Encoding.DELTA_BINARY_PACKED);
    for (const name of ['f32', 'f64']) b = b.setColumnEncoding(name, Encoding.BYTE_STREAM_SPLIT);
    return b.setColumnEncoding('flag', Encoding.RLE).setColumnEncoding('few', Encoding.DELTA_LENGTH_BYTE_ARRAY)
      .setColumnEncoding('many', Encoding.DELTA_BYTE_ARRAY);
  });
}

function by_plain_script() {
  const compressors = { GZIP: gzipSync, BROTLI: brotliCompressSync };
  const write = (name, options, encodings) => {
    const columnData = names.filter((column) => columns[column].hyp).map((column) => ({
      name: column,
      data: columns[column].values,
      type: columns[column].hyp,
      nullable: columns[column].nulls !== false,
      ...(encodings[column] ? { encoding: encodings[column] } : {}),
    }));
    fs.writeFileSync(path.join(folder, name), Buffer.from(parquetWriteBuffer({ columnData, compressors, ...options })));
  };
  write('c-snappy.parquet', { codec: 'SNAPPY' }, {});
  write('c-gzip-pages.parquet', { codec: 'GZIP', pageSize: 300, rowGroupSize: [20, 100] }, {});
  write('c-plain.parquet', { codec: 'UNCOMPRESSED', dictionarySize: 0 }, Object.fromEntries(names.map((n) => [n, 'PLAIN'])));
  write('c-encodings.parquet', { codec: 'UNCOMPRESSED', pageSize: 500 }, {
    flag: 'RLE', i32: 'DELTA_BINARY_PACKED', i64: 'DELTA_BINARY_PACKED', f32: 'BYTE_STREAM_SPLIT', f64: 'BYTE_STREAM_SPLIT',
    few: 'DELTA_LENGTH_BYTE_ARRAY', many: 'DELTA_BYTE_ARRAY',
  });
}

await by_sql_engine();
by_arrow();
by_plain_script();
