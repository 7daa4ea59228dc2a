//! The protocol between the two processes: one request, then frames until the answer.

use std::io::{Read, Write};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::picture::Picture;
use crate::{Crs, Error, RasterInfo, ReadLayer, VerticalUnit, Wanted};

/// What is to be read.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) enum Request {
    /// what a raster says of itself
    Inspect { path: PathBuf, name: String },
    /// its elevations; they come as [`Frame::Values`]
    Elevation { path: PathBuf, name: String, band: usize, unit: VerticalUnit },
    /// the features of a vector file or a table
    Features {
        path: PathBuf,
        name: String,
        layer: Option<String>,
        wanted: Wanted,
        to: Crs,
        assumed: Option<Crs>,
    },
    /// a picture
    Picture { path: PathBuf, name: String },
    /// the files of an archive, unpacked into a directory, up to a number of bytes
    Unpack { path: PathBuf, name: String, into: PathBuf, limit: u64 },
    /// part of a raster at an address, written to a file
    Fetch { address: String, name: String, extent: [f64; 4], to: PathBuf },
}

impl Request {
    /// What the user calls the file.
    pub fn name(&self) -> &str {
        match self {
            Self::Inspect { name, .. }
            | Self::Elevation { name, .. }
            | Self::Features { name, .. }
            | Self::Picture { name, .. }
            | Self::Unpack { name, .. }
            | Self::Fetch { name, .. } => name,
        }
    }
    /// Path of the file to read.
    pub fn path(&self) -> Option<&PathBuf> {
        match self {
            Self::Inspect { path, .. }
            | Self::Elevation { path, .. }
            | Self::Features { path, .. }
            | Self::Picture { path, .. }
            | Self::Unpack { path, .. } => Some(path),
            Self::Fetch { .. } => None,
        }
    }
    /// The directory that is written to, if any.
    pub fn written(&self) -> Option<PathBuf> {
        match self {
            Self::Unpack { into, .. } => Some(into.clone()),
            Self::Fetch { to, .. } => to.parent().map(PathBuf::from),
            _ => None,
        }
    }
}

/// What was read.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Answer {
    Info(RasterInfo),
    /// all values have come
    Done,
    Layer(ReadLayer),
    Picture(Picture),
    /// names in the archive, and where each file lies now
    Unpacked(Vec<(String, PathBuf)>),
    /// rows and columns of what was fetched
    Fetched(Option<(usize, usize)>),
}

/// A piece of what a reader says.
#[derive(Debug)]
pub(crate) enum Frame {
    /// the share that is done
    Progress(f64),
    /// rows and columns of the values that follow
    Size(usize, usize),
    /// elevations, row by row
    Values(Vec<f32>),
    /// the end, good or bad
    End(std::result::Result<Answer, Error>),
}

/// No frame is larger: a million values, or all features of a layer.
const MOST_BYTES: usize = 1 << 31;
/// Values in one frame.
pub(crate) const VALUES: usize = 1 << 18;

fn broken(what: impl std::fmt::Display) -> std::io::Error {
    std::io::Error::new(std::io::ErrorKind::InvalidData, what.to_string())
}

fn put(to: &mut impl Write, kind: u8, bytes: &[u8]) -> std::io::Result<()> {
    to.write_all(&[kind])?;
    to.write_all(&(bytes.len() as u64).to_le_bytes())?;
    to.write_all(bytes)
}

fn get(from: &mut impl Read) -> std::io::Result<(u8, Vec<u8>)> {
    let mut head = [0; 9];
    from.read_exact(&mut head)?;
    let mut length = [0; 8];
    length.copy_from_slice(&head[1..]);
    let length = usize::try_from(u64::from_le_bytes(length)).map_err(broken)?;
    if length > MOST_BYTES {
        return Err(broken("a frame that is too large"));
    }
    // What is announced is not believed: memory grows with what comes.
    let mut bytes = Vec::new();
    if from.take(length as u64).read_to_end(&mut bytes)? != length {
        return Err(std::io::ErrorKind::UnexpectedEof.into());
    }
    Ok((head[0], bytes))
}

impl Request {
    pub fn write(&self, to: &mut impl Write) -> std::io::Result<()> {
        put(to, b'R', &postcard::to_stdvec(self).map_err(broken)?)?;
        to.flush()
    }
    pub fn read(from: &mut impl Read) -> std::io::Result<Self> {
        let (_, bytes) = get(from)?;
        postcard::from_bytes(&bytes).map_err(broken)
    }
}

impl Frame {
    pub fn write(&self, to: &mut impl Write) -> std::io::Result<()> {
        match self {
            Self::Progress(share) => put(to, b'P', &share.to_le_bytes())?,
            Self::Size(rows, cols) => put(to, b'S', &postcard::to_stdvec(&(rows, cols)).map_err(broken)?)?,
            Self::Values(values) => put(to, b'V', bytemuck::cast_slice(values))?,
            Self::End(end) => put(to, b'E', &postcard::to_stdvec(end).map_err(broken)?)?,
        }
        to.flush()
    }
    pub fn read(from: &mut impl Read) -> std::io::Result<Self> {
        let (kind, bytes) = get(from)?;
        match kind {
            b'P' => {
                let share = bytes.try_into().map_err(|_| broken("no share"))?;
                Ok(Self::Progress(f64::from_le_bytes(share)))
            }
            b'S' => {
                let (rows, cols) = postcard::from_bytes(&bytes).map_err(broken)?;
                Ok(Self::Size(rows, cols))
            }
            b'V' if bytes.len().is_multiple_of(4) => Ok(Self::Values(bytemuck::pod_collect_to_vec(&bytes))),
            b'E' => Ok(Self::End(postcard::from_bytes(&bytes).map_err(broken)?)),
            _ => Err(broken("an unknown frame")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_the_rest_is_refused() {
        let mut bytes = Vec::new();
        Frame::Progress(0.25).write(&mut bytes).unwrap();
        Frame::Values(vec![1.5, f32::NAN]).write(&mut bytes).unwrap();
        Frame::End(Err(Error::NothingWanted { name: "a".into(), wanted: "lines".into() }))
            .write(&mut bytes)
            .unwrap();
        let mut from = &bytes[..];
        assert!(matches!(Frame::read(&mut from).unwrap(), Frame::Progress(0.25)));
        let Frame::Values(values) = Frame::read(&mut from).unwrap() else { panic!("values") };
        assert!(values[0] == 1.5 && values[1].is_nan());
        let Frame::End(Err(error)) = Frame::read(&mut from).unwrap() else { panic!("an error") };
        assert!(error.to_string().contains("holds no lines"));
        for bad in [
            &b"V\x05\0\0\0\0\0\0\0abcde"[..],
            b"E\xff\xff\xff\xff\xff\xff\xff\xff",
            b"Q",
            b"E\x01\0\0\0\0\0\0\0\x77",
        ] {
            assert!(Frame::read(&mut &bad[..]).is_err());
        }
    }
}
