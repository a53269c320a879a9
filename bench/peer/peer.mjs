// Runs SQL for the benchmarks: one JSON object a line in, {"sql": "...", "rows": true}, one out, with the nanoseconds
// that the statement took and, if asked for, its rows as texts.
import { createInterface } from 'node:readline';
import { DuckDBInstance } from '@duckdb/node-api';

const threads = process.argv[2] ?? '2';
const instance = await DuckDBInstance.create(':memory:', { threads });
const connection = await instance.connect();

for await (const line of createInterface({ input: process.stdin })) {
  const { sql, rows } = JSON.parse(line);
  let answer;
  try {
    const begin = process.hrtime.bigint();
    const reader = rows ? await connection.runAndReadAll(sql) : await connection.run(sql);
    const nanoseconds = Number(process.hrtime.bigint() - begin);
    answer = { nanoseconds, rows: rows ? reader.getRows().map((row) => row.map((cell) => cell === null ? null : String(cell))) : [] };
  } catch (error) {
    answer = { error: String(error.message ?? error) };
  }
  process.stdout.write(JSON.stringify(answer) + '\n');
}
