//! A folder of this machine, or of a share that it has mounted: files are put into it, whole or not at all, and none is ever overwritten.

use super::Courier;
use crate::{
    Identities, Kind, LinkError, Runner, Tester, Wrong,
    form::{Field, Section},
    kind::{Capabilities, Description, within},
    runner::Ports,
    test::{Rungs, TestStep},
};
use async_trait::async_trait;
use havrel_core::{
    notice::{Enclosed, Notice},
    plant::{Connection, Own, Tag, resolve},
};
use serde::Deserialize;
use std::{
    fs,
    io::{self, ErrorKind, Write},
    path::{Component, Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};
use tempfile::NamedTempFile;
use tokio::{sync::mpsc, task::spawn_blocking, time::timeout};

/// The connection kind.
pub const KIND: &str = "folder";

/// The longest path of a folder, in bytes.
const LONGEST: usize = 1024;
/// So many files of one name are told apart by a number.
const MOST_OF_A_NAME: u32 = 10_000;

/// A folder as a kind of connection.
#[derive(Clone, Copy)]
pub struct Folder;

/// The settings of a folder.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Settings {
    path: String,
}

impl Settings {
    fn parse(own: &Own) -> Result<Settings, Vec<Wrong>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let path = Path::new(settings.path.trim());
        let plain = path.components().all(|part| matches!(part, Component::RootDir | Component::Normal(_)));
        let words = match settings.path.trim() {
            "" => Some("Enter the folder, like /srv/reports."),
            text if text.len() > LONGEST || text.contains('\0') => Some("This is no path of a folder."),
            _ if !path.is_absolute() || !plain => Some("Write the whole path, beginning with “/” and without “..”."),
            "/" => Some("Choose a folder, not the whole disk."),
            _ => None,
        };
        match words {
            Some(words) => Err(vec![("path".into(), words.into())]),
            None => Ok(settings),
        }
    }

    fn folder(&self) -> PathBuf {
        PathBuf::from(self.path.trim())
    }
}

impl Kind for Folder {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        let fields = vec![
            Field::text("settings.path", "Folder")
                .hint("such as /srv/reports; of this machine, or of a share it has mounted")
                .width(4),
            Field::number("timeout_ms", "Timeout, ms").usual(10_000).width(2),
            Field::tick("enabled", "On", true).width(2),
        ];
        Description {
            kind: KIND,
            title: "Folder",
            about: "Takes the files of reports, on this machine or on a share.",
            first: "Folder",
            sections: vec![Section { title: "", folded: false, fields }],
            point: Vec::new(),
            starts: Vec::new(),
            can: Capabilities { test: true, asks: true, health: true, files: true, ..Capabilities::default() },
        }
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, _: &Connection, _: &Tag) -> Vec<Wrong> {
        super::no_points()
    }

    fn show_point(&self, _: &Connection, _: &Own) -> Option<String> {
        None
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        Settings::parse(&connection.settings).map(|settings| settings.path.trim().to_owned()).into_iter().collect()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Folder)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

/// A folder, and how long its disk has for each answer.
struct Place {
    folder: PathBuf,
    timeout_ms: u32,
}

impl Place {
    fn of(connection: &Connection) -> Result<Place, LinkError> {
        let settings = Settings::parse(&connection.settings).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))?;
        Ok(Place { folder: settings.folder(), timeout_ms: connection.timeout_ms })
    }

    /// Does something on the disk, apart from everything else: a share that is gone may not answer for long.
    async fn at_disk<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Path) -> Result<T, LinkError> + Send + 'static,
    ) -> Result<T, LinkError> {
        let folder = self.folder.clone();
        let done = timeout(Duration::from_millis(self.timeout_ms.into()), spawn_blocking(move || work(&folder))).await;
        let failed = || LinkError::Folder(self.folder.display().to_string(), "the work on it failed".into());
        done.map_err(|_| LinkError::Silent(self.timeout_ms))?.map_err(|_| failed())?
    }
}

/// Whether the folder is one.
fn there(folder: &Path) -> Result<(), LinkError> {
    match fs::metadata(folder) {
        Ok(found) if found.is_dir() => Ok(()),
        Ok(_) => Err(LinkError::Folder(folder.display().to_string(), "it is a file, not a folder".into())),
        Err(error) => Err(told(folder, &error)),
    }
}

/// Whether files can be put there: one is, and taken away.
fn writable(folder: &Path) -> Result<(), LinkError> {
    let tried = NamedTempFile::new_in(folder).and_then(|mut file| {
        file.write_all(b"Havrel tries whether it can write here.")?;
        file.as_file().sync_all()?;
        file.close()
    });
    tried.map_err(|error| told(folder, &error))
}

/// An error of the disk in plain words.
fn told(folder: &Path, error: &io::Error) -> LinkError {
    let words = match error.kind() {
        ErrorKind::NotFound => "there is no such folder".to_owned(),
        ErrorKind::PermissionDenied => "Havrel may not write there".into(),
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => "the disk is full".into(),
        ErrorKind::ReadOnlyFilesystem => "the disk is read-only".into(),
        _ => error.to_string(),
    };
    LinkError::Folder(folder.display().to_string(), words)
}

/// Puts a file into the folder and gives the name it has there. One that is there with the same content stays; beside one with another
/// content it gets a number.
fn put(folder: &Path, file: &Enclosed) -> Result<String, LinkError> {
    let inside = Path::new(&file.name);
    if !inside.components().all(|part| matches!(part, Component::Normal(_))) {
        return Err(LinkError::BadRequest(format!("“{}” is no name of a file.", file.name)));
    }
    let failed = |error: io::Error| told(folder, &error);
    let parent = folder.join(inside).parent().map_or_else(|| folder.to_owned(), Path::to_owned);
    fs::create_dir_all(&parent).map_err(failed)?;
    let mut written = NamedTempFile::new_in(&parent).map_err(failed)?;
    written.write_all(&file.bytes).map_err(failed)?;
    written.as_file().sync_all().map_err(failed)?;
    // Others read it as they read any file there.
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(written.path(), fs::Permissions::from_mode(0o644)).map_err(failed)?;
    }
    for number in 1..=MOST_OF_A_NAME {
        let name = numbered(&file.name, number);
        match written.persist_noclobber(folder.join(&name)) {
            Ok(_) => return Ok(name),
            Err(error) if error.error.kind() == ErrorKind::AlreadyExists => {
                if same(&folder.join(&name), &file.bytes) {
                    return Ok(name);
                }
                written = error.file;
            }
            Err(error) => return Err(failed(error.error)),
        }
    }
    Err(LinkError::Folder(folder.display().to_string(), format!("{MOST_OF_A_NAME} files there have the name “{}”", file.name)))
}

/// Whether a file holds these bytes.
fn same(path: &Path, bytes: &[u8]) -> bool {
    let length = fs::metadata(path).is_ok_and(|found| found.len() == bytes.len() as u64);
    length && fs::read(path).is_ok_and(|found| found == bytes)
}

/// The name with a number before its ending; the first has none.
fn numbered(name: &str, number: u32) -> String {
    match name.rsplit_once('.') {
        _ if number == 1 => name.to_owned(),
        Some((stem, ending)) => format!("{stem} ({number}).{ending}"),
        None => format!("{name} ({number})"),
    }
}

#[async_trait]
impl Courier for Place {
    async fn reach(&self) -> Result<(), LinkError> {
        self.at_disk(|folder| there(folder).and_then(|()| writable(folder))).await
    }

    async fn carry(&self, notice: &Notice) -> Result<String, LinkError> {
        let files = notice.files.clone();
        self.at_disk(move |folder| {
            there(folder)?;
            let names: Vec<String> = files.iter().map(|file| put(folder, file)).collect::<Result<_, _>>()?;
            Ok(names.join(", "))
        })
        .await
    }
}

#[async_trait]
impl Runner for Folder {
    async fn run(&self, ports: Ports) {
        let courier = |ports: &Ports| Place::of(&ports.plan.borrow().connection).map(|place| Box::new(place) as Box<dyn Courier>);
        super::run(ports, courier).await;
    }
}

#[async_trait]
impl Tester for Folder {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        match Place::of(connection) {
            Ok(place) => {
                let _: Option<()> = climb(&place, &Rungs::of_path(steps, 0)).await;
            }
            Err(error) => Rungs::refuse(steps, error).await,
        }
    }
}

async fn climb(place: &Place, rungs: &Rungs) -> Option<()> {
    let began = Instant::now();
    let found = place.at_disk(there).await.map(|()| ((), "it is there".to_owned()));
    rungs.rung("Folder", format!("look at {}", place.folder.display()), began, found).await?;
    let began = Instant::now();
    let written = place.at_disk(writable).await.map(|()| ((), "a small file was written and removed".to_owned()));
    rungs.rung("Write", "write a file there".into(), began, written).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case("/srv/reports", true)]
    #[case(" /srv/reports ", true)]
    #[case("", false)]
    #[case("reports", false)]
    #[case("/srv/../etc", false)]
    #[case("/", false)]
    fn a_folder_is_written_whole(#[case] path: &str, #[case] good: bool) {
        assert_eq!(Settings::parse(json!({"path": path}).as_object().unwrap()).is_ok(), good);
    }

    fn file(name: &str, text: &str) -> Enclosed {
        Enclosed { name: name.into(), media: "text/csv", bytes: text.as_bytes().into() }
    }

    #[test]
    fn a_file_is_put_once_and_none_is_overwritten() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(put(dir.path(), &file("a/Shift 0600.csv", "one")).unwrap(), "a/Shift 0600.csv");
        assert_eq!(put(dir.path(), &file("a/Shift 0600.csv", "one")).unwrap(), "a/Shift 0600.csv", "sent again after a restart");
        assert_eq!(put(dir.path(), &file("a/Shift 0600.csv", "two")).unwrap(), "a/Shift 0600 (2).csv");
        assert_eq!(put(dir.path(), &file("a/Shift 0600.csv", "two")).unwrap(), "a/Shift 0600 (2).csv");
        assert_eq!(fs::read_to_string(dir.path().join("a/Shift 0600.csv")).unwrap(), "one");
        assert_eq!(fs::read_dir(dir.path().join("a")).unwrap().count(), 2, "nothing half-written is left");
        for bad in ["../x.csv", "/etc/x.csv", "a/../../x.csv"] {
            assert!(matches!(put(dir.path(), &file(bad, "x")), Err(LinkError::BadRequest(_))), "{bad}");
        }
    }
}
