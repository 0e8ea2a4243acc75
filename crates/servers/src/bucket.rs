//! A bucket over a folder.

use std::fs;
use std::path::Path;

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use tokio::runtime::Runtime;

/// A store with one bucket, `readings`; the key is `keeper` with the secret `lighthouse`.
pub struct BucketServer {
    _runtime: Runtime,
    /// On loopback.
    pub port: u16,
}

impl BucketServer {
    /// Starts one over a folder, in which the bucket is a folder.
    pub fn start(root: &Path) -> BucketServer {
        fs::create_dir_all(root.join("readings")).expect("a bucket");
        let store = s3s_fs::FileSystem::new(root).expect("a store");
        let mut service = S3ServiceBuilder::new(store);
        service.set_auth(SimpleAuth::from_single("keeper", "lighthouse"));
        let service = service.build().into_shared();
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .expect("a runtime");
        let listener = runtime.block_on(tokio::net::TcpListener::bind("127.0.0.1:0"));
        let listener = listener.expect("a port");
        let port = listener.local_addr().expect("its address").port();
        runtime.spawn(async move {
            while let Ok((socket, _)) = listener.accept().await {
                let service = service.clone();
                tokio::spawn(async move {
                    let server = Builder::new(TokioExecutor::new());
                    // Who goes away in the middle is no fault of the store.
                    let _ = server.serve_connection(TokioIo::new(socket), service).await;
                });
            }
        });
        BucketServer { _runtime: runtime, port }
    }

    /// Where it is kept.
    pub fn endpoint(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }
}
