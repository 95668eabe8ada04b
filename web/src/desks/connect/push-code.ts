// Ready code that pushes values of chosen tags, in the languages that programs beside a plant are written in.

import { inM, word } from '../../parts/code-text';

export interface PushTag {
  /** Its path. */
  title: string;
  /** What it holds. */
  type: string;
}

export type Language = 'shell' | 'python' | 'csharp' | 'rust' | 'sheet';

export const LANGUAGES: readonly [Language, string][] = [
  ['shell', 'Shell'],
  ['python', 'Python'],
  ['csharp', 'C#'],
  ['rust', 'Rust'],
  ['sheet', 'Spreadsheet query (M)'],
];

/** Stands for the token where none was made just now. */
export const TOKEN = 'TOKEN';

/** A value as a literal: of a number, a switch, or a text. */
const literal = ({ type }: PushTag, [yes, text]: readonly [string, string]) =>
  type === 'switch' ? yes : type === 'text' ? text : '4.2';

/** A text between double quotes, as JSON and most languages write it. */
const quoted = (text: string) => JSON.stringify(text);

const rows = (tags: readonly PushTag[], row: (tag: PushTag) => string) => tags.map(row).join(',\n');

function shell(url: string, token: string, tags: readonly PushTag[]): string {
  const body = rows(tags, (tag) => `  {"tag": ${quoted(tag.title)}, "value": ${literal(tag, ['true', '"LV"'])}}`);
  return `curl --fail-with-body -X POST ${word(url)} \\
  -H ${word(`Authorization: Bearer ${token}`)} \\
  -H 'Content-Type: application/json' \\
  -d ${word(`[\n${body}\n]`)}
`;
}

function python(url: string, token: string, tags: readonly PushTag[]): string {
  return `import json
import urllib.request
from datetime import datetime, timezone

now = datetime.now(timezone.utc).isoformat()
values = [
${rows(tags, (tag) => `    {"tag": ${quoted(tag.title)}, "value": ${literal(tag, ['True', '"LV"'])}, "time": now}`)},
]
request = urllib.request.Request(
    ${quoted(url)},
    data=json.dumps(values).encode(),
    headers={"Authorization": ${quoted(`Bearer ${token}`)}, "Content-Type": "application/json"},
)
with urllib.request.urlopen(request, timeout=10) as answer:
    print(json.load(answer))
`;
}

function csharp(url: string, token: string, tags: readonly PushTag[]): string {
  return `using System.Net.Http.Headers;
using System.Net.Http.Json;

var now = DateTimeOffset.UtcNow;
var values = new object[]
{
${rows(tags, (tag) => `    new { tag = ${quoted(tag.title)}, value = ${literal(tag, ['true', '"LV"'])}, time = now }`)},
};
using var client = new HttpClient();
client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", ${quoted(token)});
var answer = await client.PostAsJsonAsync(${quoted(url)}, values);
Console.WriteLine(await answer.Content.ReadAsStringAsync());
answer.EnsureSuccessStatusCode();
`;
}

function rust(url: string, token: string, tags: readonly PushTag[]): string {
  return `// Cargo.toml: serde_json = "1", ureq = { version = "3", features = ["json"] }
use serde_json::json;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let values = json!([
${rows(tags, (tag) => `        {"tag": ${quoted(tag.title)}, "value": ${literal(tag, ['true', '"LV"'])}}`)}
    ]);
    let mut answer = ureq::post(${quoted(url)})
        .header("Authorization", ${quoted(`Bearer ${token}`)})
        .send_json(&values)?;
    println!("{}", answer.body_mut().read_to_string()?);
    Ok(())
}
`;
}

function sheet(url: string, token: string, tags: readonly PushTag[]): string {
  return `let
    Values = {
${rows(tags, (tag) => `        [tag = ${inM(tag.title)}, value = ${literal(tag, ['true', '"LV"'])}]`)}
    },
    Answer = Web.Contents(${inM(url)}, [
        Headers = [Authorization = ${inM(`Bearer ${token}`)}, #"Content-Type" = "application/json"],
        Content = Json.FromValue(Values)
    ])
in
    Json.Document(Answer)
`;
}

const WRITTEN: Record<Language, (url: string, token: string, tags: readonly PushTag[]) => string> = {
  shell,
  python,
  csharp,
  rust,
  sheet,
};

/** Code that pushes a value of each tag to a server. */
export const pushCode = (language: Language, server: string, token: string, tags: readonly PushTag[]): string =>
  WRITTEN[language](`${server}/api/push`, token, tags);
