//! A bucket, beside a bare loop of the library that speaks to it.

use std::fs::{self, File};
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::path::Path as StorePath;
use object_store::{MultipartUpload, ObjectStoreExt};
use tokio::runtime::Runtime;
use vadegate_places::{Address, Login, Place, open};
use vadegate_servers::BucketServer;

use crate::common::median;

const ROUNDS: usize = 3;
const BIG: u64 = 256_000_000;
const ONES: usize = 200;
const ONE: usize = 1_000_000;

/// A bucket with its files, as the library has it and as we have it.
struct Bucket {
    home: tempfile::TempDir,
    _server: BucketServer,
    /// Its folder here.
    folder: PathBuf,
    /// The long file that is put there.
    big: PathBuf,
    names: Vec<String>,
    runtime: Runtime,
    store: AmazonS3,
    place: Arc<dyn Place>,
}

/// The same store, by the library alone.
fn bare_store(server: &BucketServer) -> AmazonS3 {
    AmazonS3Builder::new()
        .with_bucket_name("readings")
        .with_region("us-east-1")
        .with_endpoint(server.endpoint())
        .with_access_key_id("keeper")
        .with_secret_access_key("lighthouse")
        .with_allow_http(true)
        .build()
        .expect("a store")
}

impl Bucket {
    fn start() -> Self {
        let home = tempfile::tempdir().expect("a folder");
        let server = BucketServer::start(home.path());
        let folder = home.path().join("readings");
        let piece: Vec<u8> = (0..ONE).map(|at| (at % 251) as u8).collect();
        let names: Vec<String> = (0..ONES).map(|number| format!("{number:03}.dat")).collect();
        for name in &names {
            fs::write(folder.join(name), &piece).expect("a file");
        }
        let big = home.path().join("big.dat");
        fs::write(&big, piece.repeat(BIG as usize / ONE)).expect("a file");
        fs::copy(&big, folder.join("big.dat")).expect("a copy");
        let address = Address::parse("s3://readings").expect("an address");
        let login = Login {
            endpoint: Some(server.endpoint()),
            key_id: Some("keeper".into()),
            secret: Some("lighthouse".into()),
            ..Login::default()
        };
        let place = open(&address, Arc::new(move || Ok(login.clone())));
        // It says which cryptography this process has; the library by itself has none.
        place.list("", &mut |_| true).expect("it is listed");
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
        let runtime = runtime.expect("a runtime");
        let store = bare_store(&server);
        Bucket { home, _server: server, folder, big, names, runtime, store, place }
    }

    fn all(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str).chain(["big.dat"])
    }

    fn here(&self) -> File {
        File::create(self.home.path().join("here.dat")).expect("a file")
    }

    fn bare_get(&self) {
        self.runtime.block_on(async {
            for name in self.all() {
                let mut copy = self.here();
                let got = self.store.get(&StorePath::from(name)).await.expect("it is read");
                let mut pieces = got.into_stream();
                while let Some(piece) = pieces.next().await {
                    copy.write_all(&piece.expect("a piece")).expect("it is written");
                }
            }
        });
    }

    fn our_get(&self) {
        for name in self.all() {
            let mut copy = self.here();
            let read = self.place.read(name, 0, &mut |piece| copy.write_all(piece));
            read.expect("it is read");
        }
    }

    fn bare_put(&self) {
        self.runtime.block_on(async {
            for name in &self.names {
                let bytes = fs::read(self.folder.join(name)).expect("a file");
                let path = StorePath::from(format!("bare-{name}"));
                self.store.put(&path, bytes.into()).await.expect("it is written");
            }
            let path = StorePath::from("bare-big");
            let mut upload = self.store.put_multipart(&path).await.expect("an upload");
            for part in fs::read(&self.big).expect("a file").chunks(8 << 20) {
                upload.put_part(part.to_vec().into()).await.expect("a part");
            }
            upload.complete().await.expect("it is whole");
        });
    }

    fn our_put(&self) {
        for name in &self.names {
            let mut source = File::open(self.folder.join(name)).expect("a file");
            let put = self.place.write(&format!("ours-{name}"), 0, ONE as u64, &mut source);
            put.expect("it is written");
        }
        let mut source = File::open(&self.big).expect("a file");
        self.place.write("ours-big", 0, BIG, &mut source).expect("it is written");
    }

    fn tidy(&self) {
        for name in self.names.iter().map(String::as_str).chain(["big"]) {
            for whose in ["ours", "bare"] {
                fs::remove_file(self.folder.join(format!("{whose}-{name}"))).expect("it goes");
            }
        }
    }
}

/// 256 MB and 200 of 1 MB, from it and to it.
pub fn both_ways() {
    let bucket = Bucket::start();
    let timed = |run: &dyn Fn()| {
        let begun = Instant::now();
        run();
        begun.elapsed()
    };
    let mut times: [Vec<Duration>; 4] = Default::default();
    for _ in 0..ROUNDS {
        times[0].push(timed(&|| bucket.bare_get()));
        times[1].push(timed(&|| bucket.our_get()));
        times[2].push(timed(&|| bucket.bare_put()));
        times[3].push(timed(&|| bucket.our_put()));
        bucket.tidy();
    }
    for (what, bare, ours) in [("from", 0, 1), ("to", 2, 3)] {
        let (bare, ours) = (median(times[bare].clone()), median(times[ours].clone()));
        println!(
            "a bucket, 256 MB and 200 of 1 MB {what} it: the library {bare:.2} s, ours {ours:.2} s: {:.2} (wanted 0.8)",
            bare / ours
        );
    }
}
