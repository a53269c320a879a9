// Writes one table as files and streams of Arrow, by two libraries, and as its twin in CSV: node write.mjs ../samples
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import * as arrow from 'apache-arrow';
import * as wasm from 'parquet-wasm';

const folder = process.argv[2];
let state = 11n;
const random = (below) => {
  state = (state * 6364136223846793005n + 1442695040888963407n) & 0xffffffffffffffffn;
  return Number((state >> 33n) % BigInt(below));
};
const rows = 250;
const texts = ['Harbour', '', 'Mühle', '007', 'a,b', 'the "old" town', 'ひかり', 'a longer text than twelve bytes', 'line\nbreak'];
const day = (n) => new Date(Date.UTC(1970, 0, 1) + n * 86400000).toISOString().slice(0, 10);
const clock = (us) => {
  const text = new Date(Math.floor(us / 1000)).toISOString().slice(11, 19);
  return us % 1000000 === 0 ? text : `${text}.${String(us % 1000000).padStart(6, '0')}`.replace(/0+$/, '');
};

// Each column: its type, how a value is drawn, and the text that it is.
const columns = {
  i8: [new arrow.Int8(), () => random(255) - 127, String],
  i16: [new arrow.Int16(), () => random(65535) - 32767, String],
  i32: [new arrow.Int32(), () => random(2147483647) - 1000000000, String],
  i64: [new arrow.Int64(), () => BigInt(random(2147483647)) * 4294967291n - 4611686018427387904n, String],
  u8: [new arrow.Uint8(), () => random(256), String],
  u32: [new arrow.Uint32(), () => random(2147483647) * 2, String],
  u64: [new arrow.Uint64(), () => BigInt(random(2147483647)) * 4294967296n, String],
  f32: [new arrow.Float32(), () => (random(2000000) - 1000000) / 64, String],
  f64: [new arrow.Float64(), () => (random(2000000) - 1000000) / 7, String],
  text: [new arrow.Utf8(), () => texts[random(texts.length)], (v) => `"${v.replaceAll('"', '""')}"`],
  large: [new arrow.LargeUtf8(), () => texts[random(texts.length)], (v) => `"${v.replaceAll('"', '""')}"`],
  coded: [new arrow.Dictionary(new arrow.Utf8(), new arrow.Int8()), () => texts[random(5)], (v) => `"${v.replaceAll('"', '""')}"`],
  flag: [new arrow.Bool(), () => random(2) === 1, String],
  day: [new arrow.DateDay(), () => new Date((random(40000) - 10000) * 86400000), (v) => v.toISOString().slice(0, 10)],
  milli_day: [new arrow.DateMillisecond(), () => new Date((random(40000) - 10000) * 86400000), (v) => v.toISOString().slice(0, 10)],
  seconds: [new arrow.TimestampSecond(), () => random(2000000000) * 1000, (v) => `${day(Math.floor(v / 86400000))} ${clock((v % 86400000) * 1000)}`],
  micros: [new arrow.TimestampMicrosecond(), () => random(2000000000) * 1000 + 7, (v) => `${day(Math.floor(v / 86400000))} ${clock((v % 86400000) * 1000)}`],
  time: [new arrow.TimeMillisecond(), () => random(86400000), (v) => clock(v * 1000)],
  nothing: [new arrow.Null(), () => null, String],
};
const drawn = Object.fromEntries(
  Object.entries(columns).map(([name, [, draw]]) => [name, Array.from({ length: rows }, () => (random(7) === 0 ? null : draw()))]));
const site = Array.from({ length: rows }, (_, i) => (i % 11 === 0 ? null : { city: i % 5 === 0 ? null : texts[i % 4], floor: i % 9 }));

const header = [...Object.keys(columns), 'site.city', 'site.floor'];
const lines = Array.from({ length: rows }, (_, i) => [
  ...Object.entries(columns).map(([name, [, , write]]) => (drawn[name][i] === null ? '' : write(drawn[name][i]))),
  site[i]?.city == null ? '' : `"${site[i].city}"`,
  site[i] == null ? '' : String(site[i].floor),
].join(','));
writeFileSync(join(folder, 'twin.csv'), `${header.join(',')}\n${lines.join('\n')}\n`);

const table = (begin, end) => {
  const vectors = Object.fromEntries(
    Object.entries(columns).map(([name, [type]]) => [name, arrow.vectorFromArray(drawn[name].slice(begin, end), type)]));
  vectors.site = arrow.vectorFromArray(site.slice(begin, end), new arrow.Struct([
    new arrow.Field('city', new arrow.Utf8(), true), new arrow.Field('floor', new arrow.Int16(), true)]));
  vectors.list = arrow.vectorFromArray(Array.from({ length: end - begin }, (_, i) => (i % 3 === 0 ? null : [1, 2])),
    new arrow.List(new arrow.Field('item', new arrow.Int32(), true)));
  vectors.last = arrow.vectorFromArray(drawn.i32.slice(begin, end), new arrow.Int32());
  return new arrow.Table(vectors);
};
const whole = table(0, rows);
const parts = new arrow.Table([...table(0, 100).batches, ...table(100, 101).batches, ...table(101, rows).batches]);
writeFileSync(join(folder, 'a-file.arrow'), arrow.tableToIPC(whole, 'file'));
writeFileSync(join(folder, 'a-stream.arrow'), arrow.tableToIPC(whole, 'stream'));
// Each part has a dictionary of its own.
writeFileSync(join(folder, 'a-parts-stream.arrow'), arrow.tableToIPC(parts, 'stream'));

// By the other library: by way of its own tables, without what it does not take.
const taken = whole.select(Object.keys(columns).filter((name) => !['nothing', 'milli_day'].includes(name)));
const other = wasm.Table.fromIPCStream(arrow.tableToIPC(taken, 'stream'));
writeFileSync(join(folder, 'b-stream.arrow'), other.intoIPCStream());
