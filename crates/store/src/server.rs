//! A PostgreSQL server of the application's own, on loopback, from the machine's packages.
//!
//! The cluster lives in a directory of its own, listens on a free port of 127.0.0.1 and asks for a
//! password that only the owner of the directory can read. PostgreSQL refuses to run as root, so
//! root starts it as the user `postgres`.

use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::{PermissionsExt, chown};
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
    /// held while this process uses the directory
    _lock: fs::File,
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::Server(what.to_string())
}

/// Where PostgreSQL's programs are: the newest version in the place of Debian's packages.
fn programs() -> Result<PathBuf> {
    let mut found: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .map_err(|_| failed("its programs are not installed; install the package postgresql"))?
        .filter_map(|entry| {
            let path = entry.ok()?.path();
            let version = path.file_name()?.to_str()?.parse().ok()?;
            path.join("bin/initdb").exists().then(|| (version, path.join("bin")))
        })
        .collect();
    found.sort();
    found
        .pop()
        .map(|(_, path)| path)
        .ok_or_else(|| failed("its programs are not installed; install the package postgresql"))
}

/// The user that the server runs as, where it cannot be this one.
fn other_user() -> Result<Option<User>> {
    if !Uid::effective().is_root() {
        return Ok(None);
    }
    let user = User::from_name("postgres").map_err(failed)?;
    user.map(Some).ok_or_else(|| failed("it refuses to run as root, and there is no user “postgres”"))
}

fn command(program: &str) -> Result<Command> {
    let mut command = Command::new(programs()?.join(program));
    if let Some(user) = other_user()? {
        command.uid(user.uid.as_raw()).gid(user.gid.as_raw());
    }
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
        let lock = fs::File::create(directory.join("lock"))?;
        lock.try_lock()
            .map_err(|_| failed(format!("{} is in use by another Bothros", directory.display())))?;
        let cluster = directory.join("cluster");
        let secret = directory.join("password");
        if !cluster.join("PG_VERSION").exists() || !secret.exists() {
            Self::create(directory, &cluster, &secret)?;
        }
        let password = fs::read_to_string(&secret)?.trim().to_owned();
        let port = match running_port(&cluster) {
            Some(port) => port,
            None => launch(&cluster)?,
        };
        let server = Self { directory: directory.to_owned(), port, password, _lock: lock };
        server.create_database()?;
        fs::write(directory.join("url"), server.url())?;
        fs::set_permissions(directory.join("url"), fs::Permissions::from_mode(0o600))?;
        Ok(server)
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
        let mut file = fs::File::create(secret)?;
        file.set_permissions(fs::Permissions::from_mode(0o600))?;
        writeln!(file, "{password}")?;
        if let Some(user) = other_user()? {
            fs::set_permissions(directory, fs::Permissions::from_mode(0o755))?;
            for path in [cluster, secret] {
                chown(path, Some(user.uid.as_raw()), Some(user.gid.as_raw()))?;
            }
        }
        let mut init = command("initdb")?;
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
            let out = Command::new(programs()?.join("psql"))
                .args([
                    "-X",
                    "-A",
                    "-t",
                    "-w",
                    "-h",
                    "127.0.0.1",
                    "-U",
                    "bothros",
                    "-p",
                    &self.port.to_string(),
                ])
                .args(["-d", database, "-c", sql])
                .env("PGPASSWORD", &self.password)
                .stdin(Stdio::null())
                .output()?;
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
    pub fn stop(self) -> Result<()> {
        let mut stop = command("pg_ctl")?;
        stop.arg("-D").arg(self.directory.join("cluster")).args(["stop", "-m", "fast", "-w", "-s"]);
        run(stop)
    }
}

/// Port of the server that runs on a cluster, if one does.
fn running_port(cluster: &Path) -> Option<u16> {
    let mut status = command("pg_ctl").ok()?;
    status.arg("-D").arg(cluster).arg("status").stdout(Stdio::null()).stderr(Stdio::null());
    if !status.status().ok()?.success() {
        return None;
    }
    fs::read_to_string(cluster.join("postmaster.pid")).ok()?.lines().nth(3)?.trim().parse().ok()
}

/// Starts the server on a free port.
fn launch(cluster: &Path) -> Result<u16> {
    let mut last = failed("no free port was found");
    for _ in 0..5 {
        // Another program may take the port in between; then the next try has another one.
        let port = TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port();
        let mut start = command("pg_ctl")?;
        start.arg("-D").arg(cluster).arg("-l").arg(cluster.join("server.log"));
        start.args(["-o", &format!("-p {port}"), "-w", "-s", "start"]);
        match run(start) {
            Ok(()) => return Ok(port),
            Err(error) => last = error,
        }
    }
    let log = fs::read_to_string(cluster.join("server.log")).unwrap_or_default();
    let tail: Vec<&str> = log.lines().rev().take(3).collect();
    Err(failed(format!("{last}; its log ends: {}", tail.into_iter().rev().collect::<Vec<_>>().join(" / "))))
}
