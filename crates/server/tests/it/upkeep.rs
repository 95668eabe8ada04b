//! What whoever keeps the machine relies on: folders of earlier releases, databases elsewhere, files, accounts on the command line.

use crate::{
    keep::free_port,
    plant::{Client, Plant, SHARED, fresh_name, make_reachable},
    vanish::with_sql,
};
use havrel_core::frame::Frame;
use havrel_db::{
    Db,
    cluster::{Care, Cluster},
};
use havrel_live::Live;
use serde_json::json;
use sqlx::{Connection, Executor, PgConnection};
use std::{
    io::Write,
    path::Path,
    process::{Command, Stdio},
    time::Duration,
};

/// Nothing from outside decides what is deleted.
#[test]
fn a_variable_of_the_environment_deletes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let precious = folder.path().join("precious");
    std::fs::create_dir(&precious).unwrap();
    let data = folder.path().join("data");
    let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
        .args(["account", "--data"])
        .arg(&data)
        .args(["list"])
        .env("HAVREL_REMOVE", &precious)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.wait().unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Care { careless: true, port: None }).unwrap();
    drop(cluster);
    assert!(precious.exists());
}

/// A data folder of the release of 27 November 2026: a backup of its database, and a spool with frames beyond it.
#[actix_web::test]
async fn a_folder_of_an_earlier_release_is_opened_with_everything_in_it() {
    let release = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/releases/2026-11-27");
    let name = fresh_name();
    let place = SHARED.cluster.place(&name);
    havrel_db::backup::restore(&place, &release.join("havrel.backup"), "test").await.unwrap();
    let data = tempfile::tempdir().unwrap();
    let spool = data.path().join("spool");
    std::fs::create_dir(&spool).unwrap();
    let segment = "00000000000000000001.frames";
    std::fs::copy(release.join(segment), spool.join(segment)).unwrap();
    let bytes = std::fs::read(release.join(segment)).unwrap();
    let mut frames = Vec::new();
    let mut rest = &bytes[..];
    while let Ok((frame, taken)) = Frame::decode(rest) {
        frames.push(frame);
        rest = &rest[taken..];
    }
    let last = frames.last().unwrap().seq;
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let shipped = db.shipped(frames[0].node).await.unwrap().seq;
    assert!(shipped < last, "the spool holds frames that the database lacks");
    let live = Live::start(db.clone(), data.path()).await.unwrap();
    let plant = live.plant();
    assert_eq!((plant.connections.len(), plant.tags.len(), plant.rules.len()), (3, 138, 13));
    assert_eq!(live.hands().len(), 1);
    for _ in 0..400 {
        if db.shipped(live.node).await.unwrap().seq > last {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    // Every sample of the old frames is there, whichever way it came.
    for frame in &frames {
        for sample in &frame.batch.samples {
            let kept = db.raw(sample.tag, sample.time, sample.time, false, 10).await.unwrap();
            assert_eq!(kept.len(), 1, "tag {} at {}", sample.tag, sample.time);
        }
    }
    assert_eq!(db.accounts().await.unwrap().iter().map(|a| a.name.as_str()).collect::<Vec<_>>(), ["Keeper", "Shift lead"]);
    assert!(db.account_named("Keeper").await.unwrap().is_some());
    live.stop().await;
}

/// A connection of a kind that this program does not know, as another version may have made it, is shown with what mends it.
#[actix_web::test]
async fn a_kind_that_no_driver_serves_is_shown() {
    let (plant, mut sql, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.live.stop().await;
    sql.execute("update connection set own = jsonb_set(own, '{kind}', '\"elder_wire\"')").await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let data = tempfile::tempdir().unwrap();
    let live = Live::start(db, data.path()).await.unwrap();
    let mut health = None;
    for _ in 0..200 {
        health = live.health().remove(&built.connection).filter(|h| !h.message.is_empty());
        if health.is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let health = health.expect("the connection is there");
    assert!(health.message.contains("elder_wire") && health.cure.contains("Another version of Havrel"), "{health:?}");
    assert_eq!(live.plant().connections[&built.connection].set.kind, "elder_wire");
    live.stop().await;
}

/// What is kept on disk is for its owner alone.
#[actix_web::test]
async fn files_are_for_their_owner() {
    use std::os::unix::fs::PermissionsExt;
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    let mut files = 0;
    for entry in std::fs::read_dir(plant.spool.path().join("spool")).unwrap() {
        let mode = entry.unwrap().metadata().unwrap().permissions().mode() & 0o777;
        assert_eq!(mode, 0o600);
        files += 1;
    }
    assert!(files >= 2, "the lock and a segment");
    plant.stop().await;
}

/// A PostgreSQL elsewhere is reached over TLS, and only with the certificate that was asked for.
#[actix_web::test]
async fn a_database_elsewhere_is_reached_over_tls() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let care = Care { careless: true, port: Some(free_port()) };
    let cluster = Cluster::start(&folder.path().join("cluster"), care).unwrap();
    cluster.ensure("plant", None).await.unwrap();
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
    let other = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned()]).unwrap();
    let data = folder.path().join("cluster/data");
    let owner = std::fs::metadata(&data).unwrap();
    for (name, text) in [("tls.crt", made.cert.pem()), ("tls.key", made.signing_key.serialize_pem())] {
        std::fs::write(data.join(name), text).unwrap();
        std::fs::set_permissions(data.join(name), std::fs::Permissions::from_mode(0o600)).unwrap();
        chown(data.join(name), Some(owner.uid()), Some(owner.gid())).unwrap();
    }
    let mut admin = PgConnection::connect_with(&cluster.options("postgres")).await.unwrap();
    for statement in [
        "alter system set ssl_cert_file = 'tls.crt'",
        "alter system set ssl_key_file = 'tls.key'",
        "alter system set ssl = on",
        "select pg_reload_conf()",
    ] {
        admin.execute(statement).await.unwrap();
    }
    let authority = folder.path().join("authority.pem");
    std::fs::write(&authority, made.cert.pem()).unwrap();
    let stranger = folder.path().join("stranger.pem");
    std::fs::write(&stranger, other.cert.pem()).unwrap();
    let url = cluster.url("plant");
    let with = |root: &Path| format!("{url}?sslmode=verify-full&sslrootcert={}&application_name=plant", root.display());
    let place = |url: &str| havrel_db::place::Place::from_url(url).unwrap();
    let mut connected = None;
    for _ in 0..100 {
        connected = PgConnection::connect_with(&place(&with(&authority)).connect()).await.ok();
        if connected.is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let mut sql = connected.expect("over TLS, checked");
    let asked = "select ssl, application_name from pg_stat_ssl join pg_stat_activity using (pid) where pid = pg_backend_pid()";
    let (tls, name): (bool, String) = sqlx::query_as(asked).fetch_one(&mut sql).await.unwrap();
    assert_eq!((tls, name.as_str()), (true, "plant"), "parameters of the address are kept");
    assert!(PgConnection::connect_with(&place(&with(&stranger)).connect()).await.is_err());
    let unknown = havrel_db::place::Place::from_url(&format!("{url}?sslmod=require")).err().unwrap().to_string();
    assert!(unknown.contains("it sets sslmod, but can only set"), "{unknown}");
    // The programs that back up take the same way.
    let file = folder.path().join("plant.backup");
    Db::open(place(&with(&authority)).connect()).await.unwrap().close().await;
    assert!(havrel_db::backup::dump(&place(&with(&authority)), &file, |_| ()).unwrap() > 0);
    assert!(havrel_db::backup::dump(&place(&with(&stranger)), &file, |_| ()).is_err());
}

/// Whoever keeps the machine gets back in without a page.
#[actix_web::test]
async fn accounts_are_kept_from_the_command_line() {
    let (plant, _, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let url = SHARED.cluster.url(&name);
    let run = async |arguments: &[&str], input: &str| {
        let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
            .args(["account", "--database", &url])
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        let done = tokio::task::spawn_blocking(move || child.wait_with_output().unwrap()).await.unwrap();
        let text = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
        (done.status.success(), text)
    };
    assert!(run(&["add", "Shift lead", "--role", "operator"], "short\n").await.1.contains("at least 8 characters"));
    assert!(run(&["add", "Shift lead", "--role", "operator"], "kelp-and-salt\n").await.0);
    assert!(!run(&["role", "Plant engineer", "viewer"], "").await.0, "the last engineer");
    assert!(run(&["password", "plant engineer"], "another-word\n").await.0);
    assert!(run(&["disable", "Shift lead"], "").await.0);
    let (_, listed) = run(&["list"], "").await;
    assert!(
        listed.contains("Plant engineer\tengineer\tenabled") && listed.contains("Shift lead\toperator\tdisabled"),
        "{listed}"
    );
    assert!(!run(&["code"], "").await.0, "there is an account already");
    let client = Client::new(&plant.url);
    let enter = |password: &str| json!({"name": "Plant engineer", "password": password});
    assert_eq!(client.post("/api/session", enter("kelp-and-salt")).await.0, 401);
    assert_eq!(client.post("/api/session", enter("another-word")).await.0, 200);
    drop(engineer);
    plant.stop().await;
}
