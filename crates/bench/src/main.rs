//! `havrel-bench`: how fast and how large, in one run, mostly as ratios against a limit that is measured beside it, because
//! a figure alone says more about the machine than about the program. Prints a table and writes the same as JSON.

mod classes;
mod connect;
mod edge;
mod engine;
mod formulas;
mod load;
mod lookup;
mod messages;
mod model;
mod nodes;
mod plant;
mod publishing;
mod store;
mod wire;

use clap::{Parser, Subcommand};
use havrel_db::cluster::{Care, Cluster};
use serde_json::{Value as Json, json};
use std::{
    error::Error,
    fs,
    io::Write,
    os::unix::fs::PermissionsExt,
    path::PathBuf,
    time::{Duration, Instant},
};

type Failure = Box<dyn Error + Send + Sync>;
type Result<T> = std::result::Result<T, Failure>;

/// Measures Havrel on this machine.
#[derive(Parser)]
struct Cli {
    /// Where the figures are written as JSON.
    #[arg(long, default_value = "target/bench.json")]
    to: PathBuf,
    /// Figures of an earlier run to print beside.
    #[arg(long)]
    against: Option<PathBuf>,
    /// Only some of it: engine, formulas, classes, model, store, wire, nodes, messages, edge, publishing, connect, load, tree.
    #[arg(
        long,
        value_delimiter = ',',
        default_value = "engine,formulas,classes,model,store,wire,nodes,messages,edge,publishing,connect,load,tree"
    )]
    only: Vec<String>,
    /// Tags of the plants under load.
    #[arg(long, value_delimiter = ',', default_value = "10000,100000")]
    tags: Vec<u32>,
    #[command(subcommand)]
    part: Option<Part>,
}

#[derive(Subcommand)]
enum Part {
    /// A plant under load as a program of its own, so that its memory is its own. Ends when its input does.
    #[command(hide = true)]
    Plant(plant::Settings),
    /// An OPC UA server as a program of its own. Ends when its input does.
    #[command(hide = true)]
    Nodes(nodes::Settings),
}

/// What was measured, in the order of measuring.
pub struct Figures(Vec<(String, f64, &'static str, Option<&'static str>)>);

impl Figures {
    /// Notes a figure, its unit, and the goal it is measured against.
    pub fn add(&mut self, name: &str, value: f64, unit: &'static str, goal: Option<&'static str>) {
        let goal_words = goal.map(|g| format!("  (goal {g})")).unwrap_or_default();
        let digits = if value.abs() >= 100.0 {
            0
        } else if value.abs() >= 10.0 {
            1
        } else {
            3
        };
        println!("{name:<66} {value:>14.digits$} {unit}{goal_words}");
        let _ = std::io::stdout().flush();
        self.0.push((name.to_owned(), value, unit, goal));
    }

    /// Two rates and what one is of the other.
    pub fn ratio(&mut self, name: &str, ours: f64, limit: f64, unit: &'static str, goal: Option<&'static str>) {
        self.add(name, ours, unit, None);
        self.add("  the limit beside it", limit, unit, None);
        self.add("  ratio", ours / limit, "", goal);
    }

    fn json(&self) -> Json {
        let list =
            self.0.iter().map(|(name, value, unit, goal)| json!({"name": name, "value": value, "unit": unit, "goal": goal}));
        Json::Array(list.collect())
    }
}

/// How often something can be done each second, from about a second of doing it.
pub fn rate(mut once: impl FnMut() -> usize) -> f64 {
    let mut turn = || {
        let (began, mut done) = (Instant::now(), 0);
        while began.elapsed() < Duration::from_millis(150) {
            done += once();
        }
        done as f64 / began.elapsed().as_secs_f64()
    };
    // The middle of several: whatever else the machine does falls into few of them.
    let mut rates: Vec<f64> = (0..7).map(|_| turn()).collect();
    rates.sort_by(f64::total_cmp);
    rates[rates.len() / 2]
}

/// A value of a sorted list at a share of its length.
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let last = sorted.len().saturating_sub(1);
    sorted.get(((sorted.len() as f64 * share) as usize).min(last)).copied().unwrap_or(f64::NAN)
}

fn main() -> Result<()> {
    let cli = Cli::parse();
    let executor = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    match cli.part {
        Some(Part::Plant(settings)) => return executor.block_on(plant::run(settings)),
        Some(Part::Nodes(settings)) => return executor.block_on(nodes::serve(settings)),
        None => {}
    }
    let mut figures = Figures(Vec::new());
    let folder = tempfile::Builder::new().prefix("havrel-bench-").tempdir()?;
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755))?;
    let wanted = |part: &str| cli.only.iter().any(|only| only == part);
    if wanted("engine") {
        engine::measure(&mut figures);
    }
    if wanted("formulas") {
        formulas::measure(&mut figures);
    }
    if wanted("classes") {
        classes::measure(&mut figures)?;
    }
    if wanted("model") {
        model::measure(&mut figures)?;
    }
    // As it is run for real: with every write on disk.
    let cluster = Cluster::start(&folder.path().join("cluster"), Care::default())?;
    executor.block_on(async {
        if wanted("store") {
            store::measure(&mut figures, &cluster).await?;
        }
        if wanted("wire") {
            wire::measure(&mut figures).await?;
        }
        if wanted("nodes") {
            nodes::measure(&mut figures).await?;
        }
        if wanted("messages") {
            messages::measure(&mut figures).await?;
        }
        if wanted("edge") {
            edge::measure(&mut figures).await?;
        }
        if wanted("publishing") {
            publishing::measure(&mut figures).await?;
        }
        Ok::<_, Failure>(())
    })?;
    if wanted("connect") {
        connect::measure(&mut figures, &cluster, folder.path())?;
    }
    if wanted("load") {
        for &tags in &cli.tags {
            load::measure(&mut figures, &cluster, folder.path(), tags.clamp(1000, 200_000))?;
        }
    }
    if wanted("tree") {
        load::tree(&mut figures, &cluster, folder.path())?;
    }
    if let Some(parent) = cli.to.parent() {
        fs::create_dir_all(parent)?;
    }
    fs::write(&cli.to, serde_json::to_string_pretty(&json!({"version": env!("CARGO_PKG_VERSION"), "figures": figures.json()}))?)?;
    println!("\nwritten to {}", cli.to.display());
    if let Some(earlier) = cli.against {
        compare(&figures, &serde_json::from_str(&fs::read_to_string(earlier)?)?);
    }
    Ok(())
}

/// Prints what changed by more than a tenth since an earlier run. Figures of one name follow each other in the same order.
fn compare(figures: &Figures, earlier: &Json) {
    println!("\nagainst the earlier run, where more than a tenth apart:");
    let before = earlier["figures"].as_array().map(Vec::as_slice).unwrap_or_default();
    let mut above = "";
    for ((name, value, unit, _), old) in figures.0.iter().zip(before) {
        if !name.starts_with(' ') {
            above = name;
        }
        let Some(was) = old["value"].as_f64().filter(|_| old["name"].as_str() == Some(name)) else { continue };
        if was != 0.0 && (value / was - 1.0).abs() > 0.1 {
            let of = if name.starts_with(' ') { format!("{above}:{name}") } else { name.clone() };
            println!("{of:<80} {was:>14.3} -> {value:>14.3} {unit}  ({:+.0} %)", (value / was - 1.0) * 100.0);
        }
    }
}
