//! The commands backup and restore.

use crate::{DataPlace, Result, data_folder, say};
use havrel_db::{
    backup,
    cluster::{self, Care, Cluster},
    place::Place,
};
use std::{
    fs,
    path::{Path, PathBuf},
};

/// Where the database is, and the server that had to be started for it.
async fn find(place: &DataPlace) -> Result<(Place, Option<Cluster>)> {
    if let Some(url) = &place.database {
        return Ok((Place::from_url(url)?, None));
    }
    let folder = data_folder(&place.data)?.join("cluster");
    if let Some(found) = cluster::running(&folder, "havrel") {
        return Ok((found, None));
    }
    let cluster = Cluster::start(&folder, Care::default())?;
    cluster.ensure("havrel", None).await?;
    Ok((cluster.place("havrel"), Some(cluster)))
}

/// The same, where there must be data already.
pub(crate) async fn find_existing(place: &DataPlace) -> Result<(Place, Option<Cluster>)> {
    if place.database.is_none() && !data_folder(&place.data)?.join("cluster").exists() {
        return Err(format!("there is no data in {}; name its folder with --data", place.data.display()).into());
    }
    find(place).await
}

/// A moment in a name, UTC: digits only.
fn stamp() -> String {
    let text = havrel_core::time::to_text(havrel_live::now());
    let digits: String = text.chars().filter(char::is_ascii_digit).take(14).collect();
    format!("{}-{}", &digits[..8], &digits[8..])
}

/// Writes the database into a file.
pub async fn backup(place: &DataPlace, to: Option<PathBuf>) -> Result<()> {
    let (database, _started) = find_existing(place).await?;
    let file = to.unwrap_or_else(|| format!("havrel-{}.backup", stamp()).into());
    let target = file.clone();
    let mut told = 0;
    let progress = move |bytes: u64| {
        if bytes / 100_000_000 > told {
            told = bytes / 100_000_000;
            say(&format!("{} MB so far", bytes / 1_000_000));
        }
    };
    let size = tokio::task::spawn_blocking(move || backup::dump(&database, &target, progress)).await??;
    say(&format!("{} holds configuration and history, {:.1} MB", file.display(), size as f64 / 1e6));
    Ok(())
}

/// Puts a backup in the place of the database.
pub async fn restore(place: &DataPlace, from: &Path) -> Result<()> {
    let (database, _started) = find(place).await?;
    let stamp = stamp();
    let former = backup::restore(&database, from, &stamp).await?;
    // What still waited there belongs to the database that was replaced.
    let spool = data_folder(&place.data)?.join("spool");
    if spool.exists() {
        let aside = spool.with_file_name(format!("spool-until-{stamp}"));
        fs::rename(&spool, &aside)?;
        say(&format!("what waited for the former database lies in {}", aside.display()));
    }
    if let Some(former) = former {
        say(&format!("the former database is kept under the name {former}"));
    }
    say(&format!("{} is restored; start Havrel as usual", from.display()));
    Ok(())
}
