//! The commands that export and import the configuration.

use crate::{DataPlace, Result, backup, data_folder, say};
use havrel_core::plant::Kind;
use havrel_db::{Db, config::By};
use havrel_jobs::{
    sheet::{self, Mark, NoPlan, Outcome, Plan},
    whole,
};
use havrel_link::Kinds;
use havrel_live::secrets::Keeper;
use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path};
use uuid::Uuid;

/// What a command carries.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub enum What {
    /// The whole configuration as JSON.
    Plant,
    /// Places as CSV.
    Places,
    /// Tags as CSV.
    Tags,
    /// Alarm rules as CSV.
    Rules,
}

impl What {
    fn kind(self) -> Option<Kind> {
        match self {
            What::Plant => None,
            What::Places => Some(Kind::Place),
            What::Tags => Some(Kind::Tag),
            What::Rules => Some(Kind::Rule),
        }
    }
}

/// Writes the configuration, or one table of it, into a file.
pub async fn export(place: &DataPlace, what: What, to: &Path) -> Result<()> {
    let (database, _started) = backup::find_existing(place).await?;
    let (plant, broken) = Db::open(database.connect()).await?.load_plant().await?;
    for (id, words) in &broken {
        say(&format!("left out {id}: {words}"));
    }
    let bytes = match what.kind() {
        None => whole::write(&plant)?,
        Some(kind) => sheet::write(&plant, kind, None, Mark::Comma)?,
    };
    // For its owner alone: it names every device and how to reach it.
    let file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(to);
    file.and_then(|mut file| file.write_all(&bytes)).map_err(|e| format!("{}: {e}", to.display()))?;
    say(&format!("{} holds revision {}, {:.1} MB", to.display(), plant.revision, bytes.len() as f64 / 1e6));
    Ok(())
}

/// Compares a file with the configuration, says what would change, and with `yes` changes it.
pub async fn import(place: &DataPlace, what: What, from: &Path, remove: bool, yes: bool) -> Result<()> {
    let bytes = fs::read(from).map_err(|e| format!("{}: {e}", from.display()))?;
    let (database, _started) = backup::find_existing(place).await?;
    let db = Db::open(database.connect()).await?;
    let (plant, _) = db.load_plant().await?;
    let compared = match what.kind() {
        None => whole::compare(&plant, &bytes, remove, &Kinds, &mut |_| true),
        Some(kind) => sheet::read(&bytes, kind).map_err(NoPlan::Wrong).and_then(|file| {
            let remove = remove.then_some(None);
            sheet::compare(&plant, kind, &file, remove, &Kinds, &mut Uuid::now_v7, &mut |_| true)
        }),
    };
    let plan = match compared {
        Ok(plan) => plan,
        Err(NoPlan::Cancelled) => return Err("stopped".into()),
        Err(NoPlan::Wrong(wrong)) => {
            for w in wrong.iter().take(50) {
                let at = if w.line > 0 { format!("line {}", w.line) } else { from.display().to_string() };
                let column = if w.column.is_empty() { String::new() } else { format!(", {}", w.column) };
                say(&format!("{at}{column}: {}", w.message));
            }
            let many = if wrong.len() == 1 { "one thing is".to_owned() } else { format!("{} things are", wrong.len()) };
            return Err(format!("{many} wrong with the file; nothing was changed").into());
        }
    };
    tell(&plan);
    if plan.edits.is_empty() {
        return Ok(());
    }
    if !yes {
        say("nothing is changed yet; add --yes to import it");
        return Ok(());
    }
    let why = format!("Imported {}", from.file_name().map_or_else(|| "a file".into(), |n| n.to_string_lossy()));
    let by = By { account: None, actor: "command line".into(), why: why.chars().take(400).collect(), undoes: None };
    let keeper = Keeper::at(&data_folder(&place.data)?);
    let edits = keeper.take_in(&plant, &plan.edits).map_err(|p| format!("it could not be imported: {}", p[0].message))?;
    let next = db.commit(&plant, &edits, &by, Kinds).await.map_err(|e| format!("it could not be imported: {e}"))?;
    say(&format!("imported as revision {}; a running Havrel follows by itself", next.revision));
    Ok(())
}

fn tell(plan: &Plan) {
    for d in plan.differences.iter().take(40) {
        let outcome = match d.outcome {
            Outcome::Added => "added",
            Outcome::Changed => "changed",
            Outcome::Removed => "removed",
        };
        let cell = |(column, before, after): &(String, String, String)| format!("{column}: “{before}” → “{after}”");
        let cells: Vec<String> = d.cells.iter().filter(|_| d.outcome == Outcome::Changed).map(cell).collect();
        say(&format!("{outcome} {} {}  {}", d.kind.name(), d.title, cells.join(", ")));
    }
    if plan.differences.len() > 40 {
        say("…");
    }
    let count = |outcome| plan.counts.iter().filter(|((f, _), _)| *f == outcome).map(|(_, n)| n).sum::<usize>();
    say(&format!(
        "{} added, {} changed, {} removed, {} as they are",
        count(Outcome::Added),
        count(Outcome::Changed),
        count(Outcome::Removed),
        plan.unchanged
    ));
}
