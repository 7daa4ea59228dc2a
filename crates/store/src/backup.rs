//! Backups: all of a database in one file, written while the application runs, and put back after it was checked.
//!
//! A backup is PostgreSQL's own dump (custom format, of one moment) between a line that says what it is and a trailer
//! with counts of rows and a checksum. It is put back into a database of its own, brought up to this version, counted;
//! only then it takes the place of the one in use, which is kept under another name.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::process::{Command, Stdio};

use serde::{Deserialize, Serialize};

use crate::server::client_program;
use crate::{Error, FileSum, Result, Store, boxed};

const FIRST_LINE: &[u8] = b"Bothros backup 1\n";
/// Bytes of the trailer's length, at the very end.
const LENGTH: u64 = 8;
/// A longer trailer is none.
const MOST_TRAILER: u64 = 1 << 20;
/// Name under which the database is kept whose place a backup took.
pub const BEFORE: &str = "bothros_before_restore";

/// What a backup holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Contents {
    /// when it was written, RFC 3339
    pub written: String,
    /// the version of Bothros that wrote it
    pub version: String,
    /// rows by table
    pub rows: BTreeMap<String, u64>,
    /// SHA-256 of all before the trailer, hexadecimal
    pub sha256: String,
}

fn failed(what: impl std::fmt::Display) -> Error {
    Error::Backup(what.to_string())
}

/// Where a database is: its address without the name, and the name.
struct Place {
    url: url::Url,
}

impl Place {
    fn of(url: &str) -> Result<Self> {
        let url = url::Url::parse(url).map_err(|e| failed(format!("the address of the database: {e}")))?;
        match url.path().trim_start_matches('/').is_empty() {
            true => Err(failed("the address of the database names none")),
            false => Ok(Self { url }),
        }
    }
    fn database(&self) -> &str {
        self.url.path().trim_start_matches('/')
    }
    /// Another database of the same server.
    fn other(&self, database: &str) -> Self {
        let mut url = self.url.clone();
        url.set_path(database);
        Self { url }
    }
    /// Returns a command with its connection options; the password is not among its arguments.
    fn program(&self, name: &str) -> Result<Command> {
        let mut command = Command::new(client_program(name)?);
        let decoded =
            |text: &str| percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned();
        command
            .env("PGHOST", self.url.host_str().unwrap_or("127.0.0.1"))
            .env("PGPORT", self.url.port().unwrap_or(5432).to_string())
            .env("PGUSER", decoded(self.url.username()))
            .env("PGPASSWORD", decoded(self.url.password().unwrap_or_default()))
            .env("PGDATABASE", self.database())
            .stdin(Stdio::null());
        Ok(command)
    }
    fn ask(&self, sql: &str) -> Result<String> {
        let out = self
            .program("psql")?
            .args(["-X", "-A", "-t", "-q", "-w", "-v", "ON_ERROR_STOP=1", "-c", sql])
            .output()?;
        match out.status.success() {
            true => Ok(String::from_utf8_lossy(&out.stdout).trim().to_owned()),
            false => Err(failed(String::from_utf8_lossy(&out.stderr).trim())),
        }
    }
}

/// Rows by table, of one moment: that of a snapshot, or now.
fn count(place: &Place, snapshot: Option<&str>) -> Result<BTreeMap<String, u64>> {
    let tables = place.ask(
        "SELECT table_name FROM information_schema.tables
         WHERE table_schema = 'public' AND table_type = 'BASE TABLE' ORDER BY 1",
    )?;
    let counts = tables.lines().map(|table| format!("SELECT '{table}', count(*) FROM public.\"{table}\""));
    let counts: Vec<String> = counts.collect();
    if counts.is_empty() {
        return Ok(BTreeMap::new());
    }
    let counts = counts.join(" UNION ALL ");
    let told = place.ask(&match snapshot {
        Some(snapshot) => format!(
            "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT '{snapshot}'; {counts}; COMMIT"
        ),
        None => counts,
    })?;
    let row = |line: &str| Some((line.split_once('|')?.0.to_owned(), line.split_once('|')?.1.parse().ok()?));
    Ok(told.lines().filter_map(row).collect())
}

/// Writes all of a database into a file, which appears when it is whole.
///
/// # Errors
/// [`Error::Backup`] with what PostgreSQL says; [`Error::DiskFull`].
pub fn write(url: &str, path: &Path) -> Result<Contents> {
    let place = Place::of(url)?;
    if path.exists() {
        return Err(failed(format!("{} exists already; choose another name", path.display())));
    }
    let beside = path.with_extension("part");
    let done = write_to(&place, &beside);
    match done {
        Ok(contents) => {
            std::fs::rename(&beside, path)?;
            Ok(contents)
        }
        Err(error) => {
            // What there is of it is no backup.
            let _ = std::fs::remove_file(&beside);
            Err(error)
        }
    }
}

fn write_to(place: &Place, path: &Path) -> Result<Contents> {
    // Dump and counts are of one moment: both look at a snapshot that this session holds.
    let mut holder = place.program("psql")?;
    holder.args(["-X", "-A", "-t", "-q", "-w"]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut holder = holder.spawn()?;
    let (Some(mut say), Some(hear)) = (holder.stdin.take(), holder.stdout.take()) else {
        return Err(failed("a program without pipes"));
    };
    writeln!(say, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SELECT pg_export_snapshot();")?;
    let mut snapshot = String::new();
    std::io::BufRead::read_line(&mut BufReader::new(hear), &mut snapshot)?;
    let snapshot = snapshot.trim();
    let ended = dump(place, snapshot, path);
    drop(say);
    holder.wait()?;
    ended
}

fn dump(place: &Place, snapshot: &str, path: &Path) -> Result<Contents> {
    let mut dump = place.program("pg_dump")?;
    dump.args(["-Fc", "-Z", "1", "-w", "--no-owner", "--no-privileges", "--schema=public"]);
    if !snapshot.is_empty() {
        dump.arg(format!("--snapshot={snapshot}"));
    }
    let mut dump = dump.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?;
    let Some(mut from) = dump.stdout.take() else { return Err(failed("a program without pipes")) };
    let mut file = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut sum = FileSum::default();
    let mut put = |bytes: &[u8]| -> Result<()> {
        sum.add(bytes);
        Ok(file.write_all(bytes)?)
    };
    put(FIRST_LINE)?;
    let mut piece = vec![0; 1 << 20];
    loop {
        let read = from.read(&mut piece)?;
        if read == 0 {
            break;
        }
        put(&piece[..read])?;
    }
    let out = dump.wait_with_output()?;
    if !out.status.success() {
        return Err(failed(String::from_utf8_lossy(&out.stderr).trim()));
    }
    let contents = Contents {
        written: crate::studies::now().to_rfc3339(),
        version: env!("CARGO_PKG_VERSION").into(),
        rows: count(place, Some(snapshot))?,
        sha256: sum.hexadecimal(),
    };
    let trailer = serde_json::to_vec(&contents)?;
    file.write_all(&trailer)?;
    file.write_all(&(trailer.len() as u64).to_le_bytes())?;
    let file = file.into_inner().map_err(|e| e.into_error())?;
    file.sync_all()?;
    Ok(contents)
}

/// Looks whether a file is a whole backup; returns what it holds, and the length of the part before the trailer.
///
/// # Errors
/// [`Error::Backup`] where it is none, is cut short or was changed.
pub fn look(path: &Path) -> Result<(Contents, u64)> {
    let none = || failed(format!("{} is no backup of Bothros, or is cut short", path.display()));
    let mut file = File::open(path)?;
    let all = file.metadata()?.len();
    if all < FIRST_LINE.len() as u64 + LENGTH {
        return Err(none());
    }
    file.seek(SeekFrom::End(-(LENGTH as i64)))?;
    let mut length = [0; LENGTH as usize];
    file.read_exact(&mut length)?;
    let trailer = u64::from_le_bytes(length);
    let before = all.checked_sub(LENGTH).and_then(|rest| rest.checked_sub(trailer));
    let Some(before) = before.filter(|_| trailer <= MOST_TRAILER) else { return Err(none()) };
    file.seek(SeekFrom::Start(before))?;
    let mut text = vec![0; trailer as usize];
    file.read_exact(&mut text)?;
    let contents: Contents = serde_json::from_slice(&text).map_err(|_| none())?;
    file.seek(SeekFrom::Start(0))?;
    let mut sum = FileSum::default();
    sum.read(&mut file.take(before))?;
    match sum.hexadecimal() == contents.sha256 {
        true => Ok((contents, before)),
        false => Err(failed(format!("{} was changed or damaged since it was written", path.display()))),
    }
}

/// Puts a backup in the place of a database, while the application runs or not. What was there before is kept in the
/// database [`BEFORE`]; an older one of that name goes.
///
/// # Errors
/// [`Error::Backup`] where the file is no whole backup, or what came of it is not what it says; then the database in
/// use stays as it is.
#[boxed]
pub async fn put_back(url: &str, path: &Path) -> Result<Contents> {
    let place = Place::of(url)?;
    let (contents, length) = look(path)?;
    let maintenance = place.other("postgres");
    let (name, fresh) = (place.database().to_owned(), format!("{}_restored", place.database()));
    maintenance.ask(&format!("DROP DATABASE IF EXISTS \"{fresh}\" WITH (FORCE)"))?;
    maintenance.ask(&format!("CREATE DATABASE \"{fresh}\""))?;
    let new = place.other(&fresh);
    let checked = fill_and_check(&new, path, length, &contents).await;
    if let Err(error) = checked {
        maintenance.ask(&format!("DROP DATABASE IF EXISTS \"{fresh}\" WITH (FORCE)"))?;
        return Err(error);
    }
    // Numbers of rasters are part of the addresses of their tiles, which browsers keep: none is given twice.
    let highest =
        "SELECT coalesce(max(last_value), 0) FROM pg_sequences WHERE sequencename = 'raster_id_seq'";
    let used: i64 = place.ask(highest).ok().and_then(|t| t.parse().ok()).unwrap_or(0);
    new.ask(&format!(
        "SELECT setval('raster_id_seq', greatest({used}, (SELECT coalesce(max(id), 1) FROM raster)) + 1000)"
    ))?;
    let ended = |database: &str| {
        format!("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{database}'")
    };
    // From here on it takes moments: the application finds the new one when it connects again.
    maintenance.ask(&format!("DROP DATABASE IF EXISTS \"{BEFORE}\" WITH (FORCE)"))?;
    maintenance.ask(&format!("ALTER DATABASE \"{name}\" WITH ALLOW_CONNECTIONS false"))?;
    let swapped = (|| -> Result<()> {
        maintenance.ask(&ended(&name))?;
        maintenance.ask(&ended(&fresh))?;
        // Backends take a moment to go.
        let mut last = Ok(());
        for _ in 0..100 {
            last = maintenance.ask(&format!("ALTER DATABASE \"{name}\" RENAME TO \"{BEFORE}\"")).map(|_| ());
            if last.is_ok() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
            maintenance.ask(&ended(&name))?;
        }
        last?;
        maintenance.ask(&format!("ALTER DATABASE \"{fresh}\" RENAME TO \"{name}\"")).map(|_| ())
    })();
    let kept = if swapped.is_ok() { BEFORE } else { &name };
    maintenance.ask(&format!("ALTER DATABASE \"{kept}\" WITH ALLOW_CONNECTIONS true"))?;
    swapped?;
    Ok(contents)
}

/// Fills a new database from a backup, brings it up to this version, and counts what it holds.
async fn fill_and_check(new: &Place, path: &Path, length: u64, contents: &Contents) -> Result<()> {
    let mut restore = new.program("pg_restore")?;
    restore.args([
        "-w",
        "--no-owner",
        "--no-privileges",
        "--exit-on-error",
        "--clean",
        "--if-exists",
        "-d",
        new.database(),
    ]);
    let mut restore = restore.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn()?;
    let Some(mut to) = restore.stdin.take() else { return Err(failed("a program without pipes")) };
    let mut file = File::open(path)?;
    file.seek(SeekFrom::Start(FIRST_LINE.len() as u64))?;
    let copied = std::io::copy(&mut file.take(length - FIRST_LINE.len() as u64), &mut to);
    drop(to);
    let out = restore.wait_with_output()?;
    if !out.status.success() {
        let told = String::from_utf8_lossy(&out.stderr).trim().to_owned();
        return Err(match told.contains("No space left") {
            true => Error::DiskFull,
            false => failed(format!("PostgreSQL could not read it: {told}")),
        });
    }
    copied?;
    let found = count(new, None)?;
    for (table, rows) in &contents.rows {
        let there = found.get(table).copied().unwrap_or(0);
        if there != *rows {
            return Err(failed(format!("of {rows} rows of {table} {there} came back")));
        }
    }
    new.ask(
        "UPDATE job SET state = 'interrupted', finished_at = now(), message = 'it was not done when the backup was written; start it again'
         WHERE state IN ('queued', 'running')",
    )?;
    let store = Store::connect(new.url.as_str()).await?;
    let whole = store.check().await;
    store.close().await?;
    whole
}
