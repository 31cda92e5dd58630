//! Where results go: standard output, or a file written beside and renamed into place.

use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use tempfile::NamedTempFile;

/// What standard output failed at.
pub(crate) const CANNOT: &str = "cannot write the result to standard output";

/// A place for a result. It is opened before any work begins, so that a place
/// that cannot be written to is known at once.
pub(crate) enum Output {
    /// Standard output.
    Stdout(BufWriter<Box<dyn Write>>),
    /// A file that appears, whole, when [`Output::finish`] is called.
    File { temporary: BufWriter<NamedTempFile>, path: PathBuf },
}

impl Output {
    /// Opens standard output, or the file at `path`.
    pub(crate) fn open(path: Option<&Path>, stdout: Box<dyn Write>) -> Result<Self> {
        let Some(path) = path else {
            return Ok(Self::Stdout(BufWriter::new(stdout)));
        };
        if path.is_dir() {
            anyhow::bail!("{} is a folder: name a file in it for --output", path.display());
        }
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let temporary =
            tempfile::Builder::new().prefix(".keen-").tempfile_in(folder).with_context(|| {
                format!(
                    "cannot write {}: choose a folder that exists and can be written to",
                    path.display()
                )
            })?;
        Ok(Self::File { temporary: BufWriter::new(temporary), path: path.to_owned() })
    }

    /// Puts the result in its place.
    pub(crate) fn finish(self) -> Result<()> {
        match self {
            Self::Stdout(mut out) => out.flush().context(CANNOT),
            Self::File { temporary, path } => {
                let file = temporary.into_inner().map_err(io::IntoInnerError::into_error);
                let file = file.with_context(|| format!("cannot write {}", path.display()))?;
                persist(file, &path)
            }
        }
    }
}

/// Moves a finished temporary file to its place, with the permissions any new file would have.
fn persist(file: NamedTempFile, path: &Path) -> Result<()> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let mode = std::fs::metadata(path).map_or(0o644, |old| old.permissions().mode() & 0o777);
        file.as_file().set_permissions(std::fs::Permissions::from_mode(mode))?;
    }
    file.as_file().sync_all()?;
    file.persist(path).with_context(|| format!("cannot put {} in its place", path.display()))?;
    Ok(())
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Stdout(out) => out.write(bytes),
            Self::File { temporary, .. } => temporary.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::Stdout(out) => out.flush(),
            Self::File { temporary, .. } => temporary.flush(),
        }
    }
}

/// Whether an error is only the reader of our output having gone.
pub(crate) fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| {
        let io = cause.downcast_ref::<io::Error>().map(io::Error::kind);
        let json =
            cause.downcast_ref::<serde_json::Error>().and_then(serde_json::Error::io_error_kind);
        io.or(json) == Some(io::ErrorKind::BrokenPipe)
    })
}
