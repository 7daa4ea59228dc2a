//! A PostgreSQL server of the application's own, on loopback, from the machine's packages.
//!
//! The cluster lives in a directory of its own, listens on a free port of 127.0.0.1 and asks for a
//! password that only the owner of the directory can read. PostgreSQL refuses to run as root, so
//! root starts it as the user `postgres`.

use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use nix::unistd::{Uid, User};

use crate::{Error, Result};

const DATABASE: &str = "bothros";

/// A running server.
pub struct LocalServer {
    directory: PathBuf,
    port: u16,
    password: String,
    /// held while this process uses the directory; none where another one does
    _lock: Option<fs::File>,
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::Server(what.to_string())
}

/// The versions of PostgreSQL that are in the place of Debian's packages, the oldest first, with their programs.
fn installed() -> Result<Vec<(u32, PathBuf)>> {
    let missing = || failed("its programs are not installed; install the package postgresql");
    let mut found: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .map_err(|_| missing())?
        .filter_map(|entry| {
            let path = entry.ok()?.path();
            let version = path.file_name()?.to_str()?.parse().ok()?;
            path.join("bin/initdb").exists().then(|| (version, path.join("bin")))
        })
        .collect();
    found.sort();
    if found.is_empty() { Err(missing()) } else { Ok(found) }
}

/// A program that talks to a server, of the newest version that is installed.
pub(crate) fn client_program(name: &str) -> Result<PathBuf> {
    let newest = installed()?.pop().ok_or_else(|| failed("no version"))?;
    Ok(newest.1.join(name))
}

/// The programs for a cluster: those of the version that made it, or the newest for one that is not made yet.
fn programs(cluster: &Path) -> Result<PathBuf> {
    let mut all = installed()?;
    let made = match fs::read_to_string(cluster.join("PG_VERSION")) {
        Ok(text) => Some(text.trim().parse::<u32>().map_err(|_| {
            failed(format!("{} does not tell its version: is it a cluster?", cluster.display()))
        })?),
        Err(_) => None,
    };
    let Some(version) = made else { return all.pop().map(|(_, path)| path).ok_or_else(|| failed("none")) };
    let there: Vec<String> = all.iter().map(|(v, _)| v.to_string()).collect();
    all.into_iter().find(|(v, _)| *v == version).map(|(_, path)| path).ok_or_else(|| {
        failed(format!(
            "{} was made by PostgreSQL {version}, and only {} is installed. Install postgresql-{version}; to move to \
             another version, write a backup with that one and restore it into a new directory. Nothing was touched",
            cluster.display(),
            there.join(", ")
        ))
    })
}

/// The user that the server runs as, where it cannot be this one.
fn other_user() -> Result<Option<User>> {
    if !Uid::effective().is_root() {
        return Ok(None);
    }
    let user = User::from_name("postgres").map_err(failed)?;
    user.map(Some).ok_or_else(|| failed("it refuses to run as root, and there is no user “postgres”"))
}

fn command(cluster: &Path, program: &str) -> Result<Command> {
    let program = programs(cluster)?.join(program);
    let mut command = match other_user()? {
        None => Command::new(program),
        // Not by `Command::uid`, which forks this process as it is: a library that another thread is in at that moment may
        // hold a lock that the child then waits for without end. Without it the system starts the program by itself.
        Some(user) => {
            let mut command = Command::new("setpriv");
            command.args([format!("--reuid={}", user.uid), format!("--regid={}", user.gid)]);
            command.arg("--clear-groups").arg("--").arg(program);
            command
        }
    };
    // Ctrl-C in the terminal is for the application, which stops the server in its own time.
    command.process_group(0).current_dir("/").stdin(Stdio::null());
    Ok(command)
}

fn run(mut command: Command) -> Result<()> {
    let out = command.stdout(Stdio::null()).stderr(Stdio::piped()).output()?;
    if out.status.success() { Ok(()) } else { Err(failed(String::from_utf8_lossy(&out.stderr).trim())) }
}

impl LocalServer {
    /// Starts the server in `directory`, which is made if need be; one that still runs there, left
    /// by a process that was killed, is used on.
    ///
    /// # Errors
    /// [`Error::Server`] where another process uses the directory, or PostgreSQL does not start.
    pub fn start(directory: &Path) -> Result<Self> {
        fs::create_dir_all(directory)?;
        let lock = lock(directory)?
            .ok_or_else(|| failed(format!("{} is in use by another Bothros", directory.display())))?;
        let cluster = directory.join("cluster");
        let secret = directory.join("password");
        // Told before anything is touched.
        programs(&cluster)?;
        if !cluster.join("PG_VERSION").exists() || !secret.exists() {
            Self::create(directory, &cluster, &secret)?;
        }
        let password = fs::read_to_string(&secret)?.trim().to_owned();
        let reserve = Reserve::in_directory(directory);
        let port = match running_port(&cluster).filter(|&port| answers(&cluster, port)) {
            Some(port) => port,
            None => launch(&cluster, None).or_else(|error| {
                // A full disk: the server cannot even write that it runs.
                if !reserve.give_up()? {
                    return Err(error);
                }
                tracing::warn!(%error, "PostgreSQL did not start; the reserve was given up for it");
                launch(&cluster, None)
            })?,
        };
        let server = Self { directory: directory.to_owned(), port, password, _lock: Some(lock) };
        server.create_database()?;
        write_secret(&directory.join("url"), &server.url())?;
        reserve.keep();
        Ok(server)
    }

    /// The server of a directory that another process has started, for as long as that one runs.
    ///
    /// # Errors
    /// [`Error::Server`] where none runs there.
    pub fn running(directory: &Path) -> Result<Self> {
        let cluster = directory.join("cluster");
        programs(&cluster)?;
        let port = running_port(&cluster).ok_or_else(|| failed("it does not run"))?;
        let password = fs::read_to_string(directory.join("password"))?.trim().to_owned();
        Ok(Self { directory: directory.to_owned(), port, password, _lock: None })
    }

    /// Whether another process uses the server of a directory.
    pub fn is_used(directory: &Path) -> bool {
        directory.join("lock").exists() && matches!(lock(directory), Ok(None))
    }

    /// Whether the server runs.
    pub fn is_alive(&self) -> bool {
        is_alive(&self.directory.join("cluster"))
    }

    /// Starts the server again, at the same port.
    ///
    /// # Errors
    /// [`Error::Server`] where it does not start.
    pub fn revive(&self) -> Result<()> {
        launch(&self.directory.join("cluster"), Some(self.port))?;
        Ok(())
    }

    /// Keeps some room on the disk for starting with, where there is enough of it.
    pub fn keep_reserve(&self) {
        Reserve::in_directory(&self.directory).keep();
    }

    /// Returns a command for one of PostgreSQL's client programs, of this server's version, with its connection options.
    ///
    /// # Errors
    /// [`Error::Server`] where it is not installed.
    pub fn program(&self, name: &str) -> Result<Command> {
        let mut command = Command::new(programs(&self.directory.join("cluster"))?.join(name));
        command.args(["-h", "127.0.0.1", "-U", "bothros", "-p", &self.port.to_string(), "-w"]);
        command.env("PGPASSWORD", &self.password).stdin(Stdio::null());
        Ok(command)
    }

    /// A server in a directory of its own that is stopped and removed when this process ends, however
    /// it ends: for tests.
    pub fn temporary() -> Result<Self> {
        let directory = tempfile::Builder::new().prefix("bothros-test-").tempdir()?.keep();
        let server = Self::start(&directory)?;
        // A shell that waits for the end of this process.
        let script = r#"while kill -0 "$1" 2>/dev/null; do sleep 0.2; done
            pid=$(head -n 1 "$2/cluster/postmaster.pid" 2>/dev/null) && kill -QUIT "$pid"
            while kill -0 "$pid" 2>/dev/null; do sleep 0.1; done; rm -rf "$2""#;
        Command::new("sh")
            .args(["-c", script, "sh", &std::process::id().to_string()])
            .arg(&directory)
            .process_group(0)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        Ok(server)
    }

    fn create(directory: &Path, cluster: &Path, secret: &Path) -> Result<()> {
        // What is left of a start that was broken off holds nothing yet.
        if cluster.exists() && !cluster.join("PG_VERSION").exists() {
            fs::remove_dir_all(cluster)?;
        }
        fs::create_dir_all(cluster)?;
        fs::set_permissions(cluster, fs::Permissions::from_mode(0o700))?;
        let password = uuid::Uuid::new_v4().simple().to_string();
        write_secret(secret, &password)?;
        if let Some(user) = other_user()? {
            fs::set_permissions(directory, fs::Permissions::from_mode(0o755))?;
            for path in [cluster, secret] {
                chown(path, Some(user.uid.as_raw()), Some(user.gid.as_raw()))?;
            }
        }
        let mut init = command(cluster, "initdb")?;
        init.arg("-D").arg(cluster).arg(format!("--pwfile={}", secret.display()));
        init.args([
            "--username=bothros",
            "--auth=scram-sha-256",
            "--encoding=UTF8",
            "--locale=C.UTF-8",
            "--no-instructions",
        ]);
        run(init)?;
        let settings = "\n# Bothros\nlisten_addresses = '127.0.0.1'\nunix_socket_directories = ''\n\
            shared_buffers = 256MB\nmax_wal_size = 4GB\nwal_level = minimal\nmax_wal_senders = 0\n\
            wal_compression = off\njit = off\nlogging_collector = off\nlog_min_messages = warning\n";
        fs::OpenOptions::new()
            .append(true)
            .open(cluster.join("postgresql.conf"))?
            .write_all(settings.as_bytes())?;
        Ok(())
    }

    fn create_database(&self) -> Result<()> {
        let psql = |database: &str, sql: &str| -> Result<String> {
            let out = self.program("psql")?.args(["-X", "-A", "-t", "-d", database, "-c", sql]).output()?;
            if !out.status.success() {
                return Err(failed(String::from_utf8_lossy(&out.stderr).trim()));
            }
            Ok(String::from_utf8_lossy(&out.stdout).trim().to_owned())
        };
        if psql("postgres", &format!("SELECT 1 FROM pg_database WHERE datname = '{DATABASE}'"))?.is_empty() {
            psql("postgres", &format!("CREATE DATABASE {DATABASE}"))?;
        }
        Ok(())
    }

    /// Address of the application's database.
    pub fn url(&self) -> String {
        self.url_of(DATABASE)
    }

    /// Address of another database on the server.
    pub fn url_of(&self, database: &str) -> String {
        format!("postgres://bothros:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// Stops the server; transactions that are open are rolled back.
    pub fn stop(&self) -> Result<()> {
        let cluster = self.directory.join("cluster");
        let mut stop = command(&cluster, "pg_ctl")?;
        stop.arg("-D").arg(&cluster).args(["stop", "-m", "fast", "-w", "-s"]);
        run(stop)
    }
}

/// Port of the server that runs on a cluster, if one does.
fn running_port(cluster: &Path) -> Option<u16> {
    let mut status = command(cluster, "pg_ctl").ok()?;
    status.arg("-D").arg(cluster).arg("status").stdout(Stdio::null()).stderr(Stdio::null());
    if !status.status().ok()?.success() {
        return None;
    }
    fs::read_to_string(cluster.join("postmaster.pid")).ok()?.lines().nth(3)?.trim().parse().ok()
}

/// Whether a server that is there answers; one that was killed a moment ago is still there, and does not.
fn answers(cluster: &Path, port: u16) -> bool {
    for _ in 0..100 {
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            return true;
        }
        if !is_alive(cluster) {
            return false;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    false
}

/// Whether the process that a cluster says serves it is there.
fn is_alive(cluster: &Path) -> bool {
    let told = fs::read_to_string(cluster.join("postmaster.pid")).ok();
    let pid = told.and_then(|t| t.lines().next()?.trim().parse::<i32>().ok());
    pid.is_some_and(|pid| {
        use nix::errno::Errno;
        // Signal 0 asks only; another user's process may not be asked, but is there.
        !matches!(nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), None), Err(Errno::ESRCH))
    })
}

/// Seconds that a start may take: after a crash the server first mends what it has.
const START_SECONDS: u32 = 600;

/// Starts the server, on a port or on a free one.
fn launch(cluster: &Path, port: Option<u16>) -> Result<u16> {
    let mut last = failed("no free port was found");
    for _ in 0..5 {
        // Another program may take the port in between; then the next try has another one.
        let port = match port {
            Some(port) => port,
            None => TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port(),
        };
        let mut start = command(cluster, "pg_ctl")?;
        start.arg("-D").arg(cluster).arg("-l").arg(cluster.join("server.log"));
        start.args(["-o", &format!("-p {port}"), "-w", "-s", "-t", &START_SECONDS.to_string(), "start"]);
        match run(start) {
            Ok(()) => return Ok(port),
            Err(error) => last = error,
        }
    }
    let log = fs::read_to_string(cluster.join("server.log")).unwrap_or_default();
    if log.lines().rev().take(5).any(|l| l.contains("No space left")) {
        return Err(failed("the disk that holds the studies is full; make room on it and start again"));
    }
    let tail: Vec<&str> = log.lines().rev().take(3).collect();
    Err(failed(format!("{last}; its log ends: {}", tail.into_iter().rev().collect::<Vec<_>>().join(" / "))))
}

/// Ends a server of a directory that is still starting, as after a crash; what it has is mended at the next start.
pub fn end_start(directory: &Path) {
    let cluster = directory.join("cluster");
    let ended = command(&cluster, "pg_ctl").and_then(|mut stop| {
        stop.arg("-D").arg(&cluster).args(["stop", "-m", "immediate", "-W", "-s"]);
        run(stop)
    });
    if let Err(error) = ended {
        tracing::warn!(%error, "PostgreSQL could not be stopped while it started");
    }
}

/// Takes the lock of a directory; `None` where another process has it.
fn lock(directory: &Path) -> Result<Option<fs::File>> {
    let lock = fs::File::create(directory.join("lock"))?;
    Ok(lock.try_lock().is_ok().then_some(lock))
}

/// Writes what only the owner may read; it is never readable by others.
fn write_secret(path: &Path, text: &str) -> Result<()> {
    let beside = path.with_extension("new");
    let mut file =
        fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&beside)?;
    file.set_permissions(fs::Permissions::from_mode(0o600))?;
    writeln!(file, "{text}")?;
    Ok(fs::rename(beside, path)?)
}

/// Room on the disk that is kept for starting with when there is no other.
struct Reserve(PathBuf);

/// Bytes of the reserve: enough for PostgreSQL to start and to delete a study.
const RESERVE: u64 = 96 << 20;

impl Reserve {
    fn in_directory(directory: &Path) -> Self {
        Self(directory.join("reserve"))
    }

    /// Gives the reserve up; returns whether there was one.
    fn give_up(&self) -> Result<bool> {
        match fs::remove_file(&self.0) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    /// Makes the reserve where it is not there and ten times its room is free.
    fn keep(&self) {
        if fs::metadata(&self.0).is_ok_and(|m| m.len() == RESERVE) {
            return;
        }
        let free = self.0.parent().and_then(|dir| nix::sys::statvfs::statvfs(dir).ok());
        let free = free.map_or(0, |s| s.blocks_available() * s.fragment_size());
        if free < 10 * RESERVE {
            return;
        }
        let made = fs::File::create(&self.0).and_then(|mut file| {
            let zeros = vec![0u8; 1 << 20];
            (0..RESERVE >> 20).try_for_each(|_| file.write_all(&zeros))
        });
        if let Err(error) = made {
            tracing::warn!(%error, "no room could be kept for starting with");
            // Half a reserve is none.
            let _ = fs::remove_file(&self.0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cluster_of_another_version_is_told_before_anything_is_touched() {
        let dir = tempfile::tempdir().unwrap();
        let cluster = dir.path().join("cluster");
        fs::create_dir_all(&cluster).unwrap();
        fs::write(cluster.join("PG_VERSION"), "9\n").unwrap();
        fs::write(dir.path().join("password"), "x").unwrap();
        let Err(error) = LocalServer::start(dir.path()) else { panic!("it started") };
        assert!(error.to_string().contains("was made by PostgreSQL 9"), "{error}");
        assert_eq!(fs::read_dir(&cluster).unwrap().count(), 1);
        fs::write(cluster.join("PG_VERSION"), "nonsense").unwrap();
        assert!(LocalServer::start(dir.path()).is_err());
    }

    #[test]
    fn secrets_are_never_readable_by_others() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("url");
        fs::write(&path, "old").unwrap();
        write_secret(&path, "new").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(fs::read_to_string(&path).unwrap().trim(), "new");
    }
}
