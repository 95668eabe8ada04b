//! A report as PDF: described as JSON and printed by `havrel-press`, a program of its own with its own bounds.

use crate::{picture, tables};
use havrel_core::{
    report::{Document, Part},
    time::{SECOND, to_local},
};
use serde_json::{Value as Json, json};
use std::{path::PathBuf, process::Stdio, time::Duration};
use tokio::{io::AsyncWriteExt, process::Command};

/// Why there is no PDF.
#[derive(Debug, thiserror::Error)]
pub enum PressError {
    #[error("The program that prints PDF is still being built while the demo runs. HTML and CSV are available now.")]
    NotThere,
    #[error("The PDF took more than {0} s and was cancelled.")]
    TooLong(u64),
    #[error("The PDF could not be printed: {0}")]
    Failed(String),
}

/// How long printing may take.
const PATIENCE: Duration = Duration::from_secs(90);

/// The description of a report for the press.
pub fn paper(document: &Document) -> Json {
    let zone = &document.zone;
    let mut facts = Vec::new();
    // A label has room for what it is about, and nothing else.
    let on_label = document.label.is_some();
    if !document.place.is_empty() {
        facts.push(("Place", document.place.clone()));
    }
    if !on_label {
        facts.push(("Period", format!("{} to {}", to_local(document.from, zone), to_local(document.to, zone))));
    }
    facts.push(("Made", format!("{} by {}", to_local(document.made_at, zone), document.made_by)));
    if document.lags() {
        facts.push(("Complete until", to_local(document.complete_until, zone)));
    }
    let mut parts = Vec::new();
    let table = |t: tables::Table| json!({"table": {"head": t.head, "rows": t.rows}});
    for part in &document.parts {
        match part {
            Part::Text(text) => parts.push(json!({"text": text})),
            Part::Values(rows) if on_label => parts.push(json!({"pairs": tables::pairs(rows)})),
            Part::Values(rows) => parts.push(table(tables::values(rows, zone))),
            Part::Table(of) => {
                parts.push(json!({"note": tables::called(of)}));
                parts.extend(tables::spans(of, zone).into_iter().map(table));
                if !of.note.is_empty() {
                    parts.push(json!({"note": of.note}));
                }
            }
            Part::Summary(rows) => parts.push(table(tables::summary(rows))),
            Part::Alarms(events) if events.is_empty() => parts.push(json!({"note": tables::NO_ALARMS})),
            Part::Alarms(events) => parts.push(table(tables::alarms(events, zone))),
            Part::AlarmFigures(of) => {
                parts.push(json!({"note": tables::counted(of, zone)}));
                parts.push(table(tables::figures(of)));
                if !of.rules.is_empty() {
                    parts.push(table(tables::frequent(of)));
                }
            }
            Part::LoopChecks(points) => {
                parts.push(json!({"note": tables::proofs(points)}));
                if !points.rows.is_empty() {
                    parts.push(table(tables::points(points, zone)));
                }
            }
            Part::Trend(curves) => {
                for (i, curve) in curves.iter().enumerate() {
                    let unit = if curve.tag.unit.is_empty() { String::new() } else { format!(", {}", curve.tag.unit) };
                    let title = format!("{} {}{unit}", curve.tag.path, curve.tag.name);
                    parts.push(match picture::drawing(curve, document.from, document.to, zone, i) {
                        Some(svg) => json!({"picture": {"title": title, "svg": svg}}),
                        None => json!({"note": format!("{title}: {}", picture::NOTHING)}),
                    });
                }
            }
        }
    }
    json!({"title": document.title, "facts": facts, "made_at": document.made_at / SECOND, "label": document.label, "parts": parts})
}

/// Where the press is: as `HAVREL_PRESS` says, or beside this program (for tests, one folder up).
fn program() -> Option<PathBuf> {
    if let Some(set) = std::env::var_os("HAVREL_PRESS") {
        return Some(PathBuf::from(set)).filter(|p| p.exists());
    }
    let own = std::env::current_exe().ok()?;
    own.ancestors().skip(1).take(2).map(|folder| folder.join("havrel-press")).find(|p| p.exists())
}

/// Prints a description.
///
/// # Errors
/// When the press is not built, fails or takes too long.
pub async fn print(paper: &str) -> Result<Vec<u8>, PressError> {
    let program = program().ok_or(PressError::NotThere)?;
    let failed = |e: std::io::Error| PressError::Failed(e.to_string());
    let mut command = Command::new(program);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
    let mut child = command.spawn().map_err(failed)?;
    let work = async move {
        if let Some(mut input) = child.stdin.take() {
            input.write_all(paper.as_bytes()).await.map_err(failed)?;
        }
        child.wait_with_output().await.map_err(failed)
    };
    let output = tokio::time::timeout(PATIENCE, work).await.map_err(|_| PressError::TooLong(PATIENCE.as_secs()))??;
    if output.status.success() {
        return Ok(output.stdout);
    }
    let words: String = String::from_utf8_lossy(&output.stderr).chars().take(500).collect();
    Err(PressError::Failed(if words.is_empty() { output.status.to_string() } else { words }))
}
