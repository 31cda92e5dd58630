//! Where results go: standard output, or a file written beside and renamed into place.
//!
//! A result never takes the place of what the topology names, or of what is no ordinary file.

use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use keen_core::topology::{Address, Secret};
use tempfile::NamedTempFile;

use crate::app::topology_file::Loaded;

/// The failure of standard output.
pub(crate) const CANNOT: &str = "cannot write the result to standard output";

/// A place for a result. It is opened before any work begins, so that a place
/// that cannot be written to is known at once.
pub(crate) enum Output {
    /// Standard output.
    Stdout(BufWriter<Box<dyn Write>>),
    /// A device, a pipe or the like, which is written to as it is.
    Device(BufWriter<std::fs::File>),
    /// A file that appears, whole, when [`Output::finish`] is called.
    File { temporary: BufWriter<NamedTempFile>, path: PathBuf },
}

/// The name of a file that is not finished yet, around a random middle.
const UNFINISHED: (&str, &str) = (".keen-", ".part");

impl Output {
    /// Opens standard output, or the file at `path`, unless that is a file which is needed for something else.
    pub(crate) fn open(
        path: Option<&Path>,
        stdout: Box<dyn Write>,
        needed: &Needed,
    ) -> Result<Self> {
        let Some(path) = path else {
            return Ok(Self::Stdout(BufWriter::new(stdout)));
        };
        // A link keeps its place: what it leads to is written.
        let path = &followed(path);
        if path.is_dir() {
            bail!("{} is a folder: name a file in it for --output", path.display());
        }
        if let Some(what) = needed.is(path) {
            bail!("{} is {what}: name another file for --output", path.display());
        }
        if path.metadata().is_ok_and(|found| !found.is_file()) {
            let device = std::fs::OpenOptions::new().write(true).open(path);
            let device = device.with_context(|| format!("cannot write {}", path.display()))?;
            return Ok(Self::Device(BufWriter::new(device)));
        }
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        clear(folder);
        let temporary = tempfile::Builder::new()
            .prefix(UNFINISHED.0)
            .suffix(UNFINISHED.1)
            .tempfile_in(folder)
            .with_context(|| {
                format!(
                    "cannot write {}: choose a folder that exists and can be written to",
                    path.display()
                )
            })?;
        // Held as long as this process lives: nobody takes the file for one that was left behind.
        drop(temporary.as_file().lock());
        Ok(Self::File { temporary: BufWriter::new(temporary), path: path.clone() })
    }

    /// Opens the file at `path`, unless that is a file which is needed for something else.
    pub(crate) fn open_file(path: &Path, needed: &Needed) -> Result<Self> {
        Self::open(Some(path), Box::new(io::sink()), needed)
    }

    /// Puts the result in its place.
    pub(crate) fn finish(self) -> Result<()> {
        match self {
            Self::Stdout(mut out) => out.flush().context(CANNOT),
            Self::Device(mut out) => out.flush().context("cannot write the result"),
            Self::File { temporary, path } => {
                let file = temporary.into_inner().map_err(io::IntoInnerError::into_error);
                let file = file.with_context(|| format!("cannot write {}", path.display()))?;
                persist(file, &path)
            }
        }
    }
}

/// Moves a finished temporary file to its place. It can be read by its owner alone, as results hold rows;
/// a file that was there before keeps its permissions.
fn persist(file: NamedTempFile, path: &Path) -> Result<()> {
    #[cfg(unix)]
    if let Ok(old) = std::fs::metadata(path) {
        use std::os::unix::fs::PermissionsExt as _;
        let mode = old.permissions().mode() & 0o777;
        file.as_file().set_permissions(std::fs::Permissions::from_mode(mode))?;
    }
    file.as_file().sync_all()?;
    file.persist(path).with_context(|| format!("cannot put {} in its place", path.display()))?;
    Ok(())
}

/// The place that a link leads to, also where nothing is there yet.
fn followed(path: &Path) -> PathBuf {
    let mut path = path.to_owned();
    // As many links as systems follow.
    for _ in 0..40 {
        let Ok(to) = std::fs::read_link(&path) else { break };
        path = path.parent().unwrap_or(Path::new("")).join(to);
    }
    path
}

/// Takes away what killed runs left unfinished in a folder: files with the mark of keen that no process holds.
fn clear(folder: &Path) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let middle = name.to_str().and_then(|name| {
            name.strip_prefix(UNFINISHED.0)?.strip_suffix(UNFINISHED.1).map(str::to_owned)
        });
        let ours = middle.is_some_and(|middle| {
            middle.len() == 6 && middle.bytes().all(|b| b.is_ascii_alphanumeric())
        });
        if !ours || !entry.file_type().is_ok_and(|kind| kind.is_file()) {
            continue;
        }
        let file = std::fs::OpenOptions::new().write(true).open(entry.path());
        if file.is_ok_and(|file| file.try_lock().is_ok()) {
            drop(std::fs::remove_file(entry.path()));
        }
    }
}

/// The files that a topology needs, and what each is.
#[derive(Debug, Default)]
pub(crate) struct Needed(Vec<(PathBuf, String)>);

impl Needed {
    /// The files of a topology, with its own and the ledger.
    pub(crate) fn of(loaded: &Loaded, topology: &Path, ledger: Option<&Path>) -> Self {
        let mut files: Vec<(PathBuf, String)> =
            vec![(topology.to_owned(), "the topology file".to_owned())];
        let ledger = ledger.map_or_else(|| crate::app::run_log::beside(topology), Path::to_owned);
        let mut database = |path: PathBuf, what: String| {
            for beside in ["-wal", "-shm", "-journal"] {
                let mut name = path.clone().into_os_string();
                name.push(beside);
                files.push((name.into(), format!("part of {what}")));
            }
            files.push((path, what));
        };
        database(ledger, "the ledger".to_owned());
        for node in &loaded.topology.nodes {
            for address in node.addresses() {
                if let Address::Sqlite(path) = address {
                    let what = format!("the database of node {}", node.name);
                    database(loaded.base.join(path), what);
                }
            }
        }
        for node in &loaded.topology.nodes {
            let mut file = |path: &Option<String>, what: &str| {
                if let Some(path) = path {
                    files.push((
                        loaded.base.join(path),
                        format!("the {what} of node {}", node.name),
                    ));
                }
            };
            file(&node.journal, "journal");
            file(&node.tls.ca, "certificate authority");
            file(&node.tls.client.as_ref().map(|(cert, _)| cert.clone()), "certificate");
            file(&node.tls.client.as_ref().map(|(_, key)| key.clone()), "key");
            let mend = node.mend.as_ref().and_then(|account| account.password.as_ref());
            for secret in node.password.iter().chain(mend) {
                if let Secret::File(path) = secret {
                    file(&Some(path.clone()), "password file");
                }
            }
        }
        Self(files)
    }

    /// The use of a file that is needed, by whatever name it goes.
    pub(crate) fn is(&self, path: &Path) -> Option<&str> {
        let same = |other: &Path| match (identity(path), identity(other)) {
            (Some(a), Some(b)) => a == b,
            // What is not there yet is known by its place.
            _ => place(path) == place(other),
        };
        self.0.iter().find(|(file, _)| same(file)).map(|(_, what)| &what[..])
    }
}

fn place(path: &Path) -> PathBuf {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let folder = folder.canonicalize().unwrap_or_else(|_| folder.to_owned());
    folder.join(path.file_name().unwrap_or_default())
}

/// The identity of a file on the machine, whatever names it has: its device and its number there.
#[cfg(unix)]
pub(crate) fn identity(path: &Path) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt as _;
    path.metadata().ok().map(|found| (found.dev(), found.ino()))
}

/// As the system tells files apart.
#[cfg(not(unix))]
pub(crate) fn identity(path: &Path) -> Option<PathBuf> {
    path.canonicalize().ok()
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Stdout(out) => out.write(bytes),
            Self::Device(out) => out.write(bytes),
            Self::File { temporary, .. } => temporary.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Stdout(out) => out.flush(),
            Self::Device(out) => out.flush(),
            Self::File { temporary, .. } => temporary.flush(),
        }
    }
}
