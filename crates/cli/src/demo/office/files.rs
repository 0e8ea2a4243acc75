//! The files of the demo's own server: what the SFTP protocol asks of a folder.

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use russh_sftp::protocol::{
    Attrs, Data, File as Listed, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode,
};

/// The longest answer to one question, in bytes.
const LONGEST: u32 = 128 * 1024;

/// What one visitor has open.
pub struct Files {
    root: PathBuf,
    open: HashMap<String, Open>,
    next: u32,
}

enum Open {
    File(File),
    Folder(Vec<Listed>),
}

#[allow(clippy::needless_pass_by_value, reason = "it is given to `map_err`")]
fn failed(error: io::Error) -> StatusCode {
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => StatusCode::NoSuchFile,
        io::ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
        _ => StatusCode::Failure,
    }
}

fn done(id: u32) -> Status {
    let (error_message, language_tag) = ("Ok".to_owned(), "en".to_owned());
    Status { id, status_code: StatusCode::Ok, error_message, language_tag }
}

impl Files {
    /// Over a folder, outside of which nothing is reached.
    pub fn of(root: PathBuf) -> Files {
        Files { root, open: HashMap::new(), next: 0 }
    }

    fn path(&self, said: &str) -> Result<PathBuf, StatusCode> {
        let mut path = self.root.clone();
        for part in said.split('/').filter(|part| !matches!(*part, "" | ".")) {
            if part == ".." || part.contains('\0') {
                return Err(StatusCode::PermissionDenied);
            }
            path.push(part);
            // Nothing in it is a link, and none is followed.
            if path.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
                return Err(StatusCode::PermissionDenied);
            }
        }
        Ok(path)
    }

    fn keep(&mut self, id: u32, open: Open) -> Handle {
        self.next += 1;
        let handle = self.next.to_string();
        self.open.insert(handle.clone(), open);
        Handle { id, handle }
    }

    fn file(&self, handle: &str) -> Result<&File, StatusCode> {
        match self.open.get(handle) {
            Some(Open::File(file)) => Ok(file),
            _ => Err(StatusCode::BadMessage),
        }
    }

    fn look(&self, id: u32, path: &str) -> Result<Attrs, StatusCode> {
        let meta = self.path(path)?.symlink_metadata().map_err(failed)?;
        Ok(Attrs { id, attrs: FileAttributes::from(&meta) })
    }
}

impl russh_sftp::server::Handler for Files {
    type Error = StatusCode;

    fn unimplemented(&self) -> StatusCode {
        StatusCode::OpUnsupported
    }

    async fn open(
        &mut self,
        id: u32,
        filename: String,
        flags: OpenFlags,
        _attributes: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        let file = OpenOptions::new()
            .read(flags.contains(OpenFlags::READ))
            .write(flags.contains(OpenFlags::WRITE))
            .create(flags.contains(OpenFlags::CREATE))
            .truncate(flags.contains(OpenFlags::TRUNCATE))
            .open(self.path(&filename)?);
        Ok(self.keep(id, Open::File(file.map_err(failed)?)))
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        self.open.remove(&handle).map(|_| done(id)).ok_or(StatusCode::BadMessage)
    }

    async fn read(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        length: u32,
    ) -> Result<Data, StatusCode> {
        let mut data = vec![0; length.min(LONGEST) as usize];
        let count = self.file(&handle)?.read_at(&mut data, offset).map_err(failed)?;
        data.truncate(count);
        if count == 0 { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn write(
        &mut self,
        id: u32,
        handle: String,
        offset: u64,
        data: Vec<u8>,
    ) -> Result<Status, StatusCode> {
        self.file(&handle)?.write_all_at(&data, offset).map(|()| done(id)).map_err(failed)
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        self.look(id, &path)
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        self.look(id, &path)
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        let meta = self.file(&handle)?.metadata().map_err(failed)?;
        Ok(Attrs { id, attrs: FileAttributes::from(&meta) })
    }

    async fn setstat(
        &mut self,
        id: u32,
        path: String,
        attributes: FileAttributes,
    ) -> Result<Status, StatusCode> {
        if let Some(seconds) = attributes.mtime {
            let file = OpenOptions::new().write(true).open(self.path(&path)?).map_err(failed)?;
            let at = SystemTime::UNIX_EPOCH + Duration::from_secs(u64::from(seconds));
            file.set_modified(at).map_err(failed)?;
        }
        Ok(done(id))
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let mut listed = Vec::new();
        for entry in fs::read_dir(self.path(&path)?).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            if let (Ok(name), Ok(meta)) = (entry.file_name().into_string(), entry.metadata()) {
                listed.push(Listed::new(name, FileAttributes::from(&meta)));
            }
        }
        Ok(self.keep(id, Open::Folder(listed)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        let Some(Open::Folder(listed)) = self.open.get_mut(&handle) else {
            return Err(StatusCode::BadMessage);
        };
        let files: Vec<Listed> = listed.drain(..listed.len().min(100)).collect();
        if files.is_empty() { Err(StatusCode::Eof) } else { Ok(Name { id, files }) }
    }

    async fn remove(&mut self, id: u32, filename: String) -> Result<Status, StatusCode> {
        fs::remove_file(self.path(&filename)?).map(|()| done(id)).map_err(failed)
    }

    async fn mkdir(
        &mut self,
        id: u32,
        path: String,
        _attributes: FileAttributes,
    ) -> Result<Status, StatusCode> {
        fs::create_dir(self.path(&path)?).map(|()| done(id)).map_err(failed)
    }

    async fn rename(&mut self, id: u32, from: String, to: String) -> Result<Status, StatusCode> {
        let (from, to) = (self.path(&from)?, self.path(&to)?);
        // Over nothing, as the protocol has it.
        fs::hard_link(&from, &to).and_then(|()| fs::remove_file(&from)).map_err(failed)?;
        Ok(done(id))
    }

    async fn realpath(&mut self, id: u32, _path: String) -> Result<Name, StatusCode> {
        Ok(Name { id, files: vec![Listed::dummy("/")] })
    }
}
