//! Programs of Debian's packages that run beside this one and end with it.
//!
//! Such a program runs under a small guard process that holds our end of a pipe: when this program ends, however it ends, the
//! pipe closes and the guard stops the other in good order. When the other ends by itself the guard ends too, with its status.

use std::{
    fs::{self, File},
    io,
    net::{Ipv4Addr, TcpListener},
    os::unix::{
        fs::{MetadataExt, PermissionsExt, chown, fchown},
        process::CommandExt,
    },
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

/// Ends with the program; stops it when its standard input closes, and then removes what should not stay.
const GUARD: &str = r#"
remove=$1; shift; stopping=
trap stopping=1 USR1
"$@" & server=$!
exec 3<&0
(cat <&3 >/dev/null; kill -USR1 $$; kill -INT $server) 2>/dev/null & watch=$!
wait $server; status=$?
[ -z "$stopping" ] || { wait $server; status=$?; }
kill $watch 2>/dev/null
[ -z "$stopping" ] || [ -z "$remove" ] || rm -rf "$remove"
exit $status
"#;
/// As what a guard is known among the processes.
const GUARD_NAME: &str = "guard";

/// As whom a program runs: root must not run it, so that it then runs as the user that its package made; anybody else runs it as
/// themselves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner(Option<(u32, u32)>);

impl Owner {
    /// The user with this name while we are root. `None`: there is no such user.
    pub fn of(user: &str) -> Option<Owner> {
        if !fs::metadata("/proc/self").is_ok_and(|m| m.uid() == 0) {
            return Some(Owner(None));
        }
        let users = fs::read_to_string("/etc/passwd").unwrap_or_default();
        let line = users.lines().find(|line| line.split(':').next() == Some(user))?;
        let mut ids = line.split(':').skip(2).map(|id| id.parse().ok());
        Some(Owner(Some((ids.next()??, ids.next()??))))
    }

    /// A program of this user, in no particular folder.
    pub fn command(self, program: impl Into<PathBuf>) -> Command {
        let mut command = Command::new(program.into());
        command.current_dir("/").env("LC_ALL", "C");
        if let Some((user, group)) = self.0 {
            command.uid(user).gid(group);
        }
        command
    }

    /// A program of this user under its guard; arguments added to it are the program's. Its standard input stays with us, and
    /// the guard removes `remove` once it has stopped the program for us.
    pub fn guarded(self, program: &Path, remove: Option<&Path>) -> Command {
        let mut command = self.command("/bin/sh");
        command.args(["-c", GUARD, GUARD_NAME]).arg(remove.unwrap_or(Path::new(""))).arg(program);
        command.stdin(Stdio::piped()).process_group(0);
        command
    }

    /// Makes a file or folder this user's.
    ///
    /// # Errors
    /// As the system says.
    pub fn give(self, path: &Path) -> io::Result<()> {
        self.0.map_or(Ok(()), |(user, group)| chown(path, Some(user), Some(group)))
    }

    /// The same of a file that is open.
    ///
    /// # Errors
    /// As the system says.
    pub fn give_open(self, file: &File) -> io::Result<()> {
        self.0.map_or(Ok(()), |(user, group)| fchown(file, Some(user), Some(group)))
    }

    /// Whether this user can get at a folder: every folder above it must let others pass when we are root.
    pub fn reaches(self, folder: &Path) -> bool {
        if self.0.is_none() {
            return true;
        }
        let Ok(full) = std::path::absolute(folder) else { return false };
        full.ancestors().skip(1).all(|up| fs::metadata(up).map_or(true, |m| m.permissions().mode() & 0o001 != 0))
    }
}

/// A port of the loopback that nobody uses.
///
/// # Errors
/// As the system says.
pub fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

/// The process that a file names in its first line, and its parent, where it lives and runs this program.
pub fn process_in(file: &Path, program: &str) -> Option<(u32, u32)> {
    let process: u32 = fs::read_to_string(file).ok()?.lines().next()?.trim().parse().ok()?;
    // The state and the parent stand behind the name, which may hold anything.
    let stat = fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    let mut fields = stat.rsplit_once(')')?.1.split_whitespace();
    let dead = fields.next()? == "Z";
    let parent = fields.next()?.parse().ok()?;
    // A number may be given to another program after a restart of the machine.
    let ours = fs::read_to_string(format!("/proc/{process}/comm")).ok()?.trim() == program;
    (!dead && ours).then_some((process, parent))
}

/// Whether a process is a guard.
pub fn is_guard(process: u32) -> bool {
    let line = fs::read(format!("/proc/{process}/cmdline")).unwrap_or_default();
    line.split(|b| *b == 0).any(|word| word == GUARD_NAME.as_bytes())
}

/// The last lines of a log.
pub fn tail(log: &Path) -> String {
    let text = fs::read_to_string(log).unwrap_or_default();
    let tail: Vec<&str> = text.lines().rev().take(8).collect();
    tail.into_iter().rev().collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::{Duration, Instant};

    /// Until something holds, or ten seconds have passed.
    fn until(holds: impl Fn() -> bool) -> bool {
        let end = Instant::now() + Duration::from_secs(10);
        while !holds() && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(5));
        }
        holds()
    }

    fn me() -> Owner {
        Owner(None)
    }

    #[test]
    fn what_it_guards_ends_when_our_end_of_the_pipe_closes() {
        let folder = tempfile();
        let (pid, log) = (folder.join("pid"), folder.join("log"));
        let mut command = me().guarded(Path::new("/bin/sh"), Some(&log));
        // A shell lets what it runs in the background ignore this signal; the programs that are guarded set it up for themselves.
        let waits = "exec env --default-signal=INT sleep 60";
        let script = format!("echo $$ > {}; echo x > {}; {waits}", pid.display(), log.display());
        let mut guard = command.args(["-c", &script]).spawn().unwrap();
        assert!(until(|| process_in(&pid, "sleep").is_some()));
        let (_, parent) = process_in(&pid, "sleep").unwrap();
        assert!(is_guard(parent) && parent == guard.id() && log.exists());
        assert_eq!(process_in(&pid, "postgres"), None, "another program with that number");
        drop(guard.stdin.take());
        guard.wait().unwrap();
        assert!(process_in(&pid, "sleep").is_none() && !log.exists());
        fs::remove_dir_all(folder).unwrap();
    }

    #[test]
    fn it_ends_with_the_status_of_what_it_guards() {
        let mut guard = me().guarded(Path::new("/bin/sh"), None).args(["-c", "exit 7"]).spawn().unwrap();
        // Waiting closes our end of the pipe, and then the guard stops what may not have ended by itself yet.
        let _pipe = guard.stdin.take();
        assert_eq!(guard.wait().unwrap().code(), Some(7));
    }

    #[test]
    fn users_are_looked_up_only_for_root() {
        let root = fs::metadata("/proc/self").unwrap().uid() == 0;
        assert_eq!(Owner::of("root"), Some(Owner(root.then_some((0, 0)))));
        assert_eq!(Owner::of("nobody of that name").is_none(), root);
    }

    fn tempfile() -> PathBuf {
        let folder = std::env::temp_dir().join(format!("havrel-child-{}", std::process::id()));
        fs::create_dir_all(&folder).unwrap();
        folder
    }
}
