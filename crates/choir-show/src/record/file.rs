//! The files of one recording. Blocking: for a thread that may wait for a disk.

use choir_host::clock::{stamp, unix_ms};
use choir_proto::ts::Part;
use std::{
    fs::{self, File, OpenOptions},
    io::{self, Write},
    path::{Path, PathBuf},
    time::{Duration, Instant},
};

/// What has been written is on the disk after so long: what a power cut may cost.
const SYNC_EVERY: Duration = Duration::from_secs(1);
/// Recordings that begin within one second.
const SAME_SECOND: u32 = 1000;

/// Where one recording is written.
#[derive(Debug)]
pub(super) struct Files {
    folder: PathBuf,
    name: String,
    open: Option<(File, PathBuf)>,
    synced: Instant,
    /// Files begun, and bytes written to all of them.
    pub count: u64,
    pub bytes: u64,
}

impl Files {
    pub fn new(folder: &Path, name: &str) -> Self {
        Self { folder: folder.to_owned(), name: name.to_owned(), open: None, synced: Instant::now(), count: 0, bytes: 0 }
    }

    /// The file that is being written.
    pub fn current(&self) -> Option<&Path> {
        self.open.as_ref().map(|(_, path)| path.as_path())
    }

    /// Writes what is there. After an error the present file is left as it is.
    ///
    /// # Errors
    /// What the system says.
    pub fn write(&mut self, parts: &[Part]) -> io::Result<()> {
        let written = self.try_write(parts);
        if written.is_err() {
            self.open = None;
        }
        written
    }

    fn try_write(&mut self, parts: &[Part]) -> io::Result<()> {
        let mut batch: Vec<u8> = Vec::new();
        for part in parts {
            let bytes = match part {
                Part::Begin(bytes) => {
                    self.put(&mut batch)?;
                    self.close()?;
                    self.open = Some(self.create()?);
                    self.count += 1;
                    bytes
                }
                Part::More(bytes) => bytes,
            };
            batch.extend_from_slice(bytes);
        }
        self.put(&mut batch)?;
        if self.synced.elapsed() >= SYNC_EVERY {
            self.sync()?;
        }
        Ok(())
    }

    fn put(&mut self, batch: &mut Vec<u8>) -> io::Result<()> {
        if let Some((file, _)) = &mut self.open {
            file.write_all(batch)?;
            self.bytes += batch.len() as u64;
        }
        batch.clear();
        Ok(())
    }

    fn sync(&mut self) -> io::Result<()> {
        self.synced = Instant::now();
        self.open.as_ref().map_or(Ok(()), |(file, _)| file.sync_data())
    }

    /// Ends the present file.
    ///
    /// # Errors
    /// What the system says.
    pub fn close(&mut self) -> io::Result<()> {
        self.sync()?;
        self.open = None;
        Ok(())
    }

    /// A file of its own, named by the time; what is there is never overwritten.
    fn create(&self) -> io::Result<(File, PathBuf)> {
        fs::create_dir_all(&self.folder)?;
        let stem = format!("{}-{}", self.name, stamp(unix_ms()));
        for n in 0..SAME_SECOND {
            let file = if n == 0 { format!("{stem}.ts") } else { format!("{stem}-{n}.ts") };
            let path = self.folder.join(file);
            match OpenOptions::new().write(true).create_new(true).open(&path) {
                Ok(file) => return Ok((file, path)),
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
                Err(e) => return Err(e),
            }
        }
        Err(io::Error::other("there are a thousand recordings of this second"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;

    #[test]
    fn each_segment_has_a_file_of_its_own_and_nothing_is_overwritten() {
        let place = tempfile::TempDir::new().expect("a folder");
        let folder = place.path().join("recordings");
        let mut files = Files::new(&folder, "dock");
        let (begin, more) = (|b: &'static [u8]| Part::Begin(Bytes::from_static(b)), |b: &'static [u8]| Part::More(Bytes::from_static(b)));
        files.write(&[more(b"lost"), begin(b"one"), more(b" more"), begin(b"two")]).expect("written");
        files.write(&[more(b" more"), begin(b"three")]).expect("written");
        files.close().expect("closed");
        assert_eq!((files.count, files.bytes), (3, 21));
        let mut texts: Vec<String> =
            fs::read_dir(&folder).expect("there").flatten().map(|f| fs::read_to_string(f.path()).expect("text")).collect();
        texts.sort();
        assert_eq!(texts, ["one more", "three", "two more"]);
        // The folder goes away, as a stick that is pulled: told, and the next segment tries again.
        fs::remove_dir_all(&folder).expect("gone");
        fs::write(&folder, "in the way").expect("written");
        assert!(files.write(&[begin(b"four")]).is_err());
        assert!(files.current().is_none());
    }
}
