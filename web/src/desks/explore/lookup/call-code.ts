// Ready code that asks for a saved lookup.

import { inM, word } from '../../../parts/code-text';

export type Call = 'shell' | 'python' | 'sheet';

export const CALLS: readonly [Call, string][] = [
  ['shell', 'Shell'],
  ['python', 'Python'],
  ['sheet', 'Spreadsheet (M)'],
];

export function callCode(call: Call, url: string, token: string, format: string): string {
  const bearer = `Bearer ${token}`;
  if (call === 'shell') return `curl --fail-with-body -H ${word(`Authorization: ${bearer}`)} ${word(url)}\n`;
  if (call === 'python') {
    const read = {
      csv: 'rows = list(csv.DictReader(io.TextIOWrapper(answer, "utf-8", newline="")))',
      json: 'rows = json.load(answer)["rows"]',
      ndjson: 'rows = [json.loads(line) for line in answer]',
    }[format];
    const needs = format === 'csv' ? 'import csv\nimport io\n' : 'import json\n';
    return `${needs}import urllib.request

request = urllib.request.Request(
    ${JSON.stringify(url)},
    headers={"Authorization": ${JSON.stringify(bearer)}},
)
with urllib.request.urlopen(request) as answer:
    ${read}
print(len(rows), "rows")
`;
  }
  const source = `Web.Contents(${inM(url)}, [Headers = [Authorization = ${inM(bearer)}]])`;
  const table = {
    csv: `Table.PromoteHeaders(Csv.Document(${source}, [Encoding = 65001]))`,
    json: `let all = Json.Document(${source}) in Table.FromRows(all[rows], List.Transform(all[columns], each [title]))`,
    ndjson: `Table.FromRecords(List.Transform(Lines.FromBinary(${source}), each Json.Document(_)))`,
  }[format];
  return `${table}\n`;
}
