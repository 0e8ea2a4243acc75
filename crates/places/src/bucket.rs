//! Buckets, by the interface that began as S3 and that many stores speak.

use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use futures_util::StreamExt;
use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::list::{PaginatedListOptions, PaginatedListStore};
use object_store::path::Path;
use object_store::{
    BackoffConfig, Certificate, ClientOptions, Error, GetOptions, GetRange, ObjectMeta,
    ObjectStore, ObjectStoreExt, PutMode, PutPayload, RetryConfig,
};

use crate::address::Address;
use crate::runtime::{CONNECT, PATIENCE, wait_for};
use crate::{
    Abilities, CertificateFault, Each, Fault, Kind, Listed, Login, LoginSource, Over, Place, Take,
    certificates_in,
};

/// A file up to this length goes in one request, a longer one in parts of this length.
const PART: usize = 8 * 1024 * 1024;

/// Stores allow so many parts of one file.
const PARTS: u64 = 10_000;

/// So many parts are under way.
const UNDER_WAY: usize = 2;

/// A bucket.
pub(crate) struct Bucket {
    address: Address,
    login: LoginSource,
    /// The store, with the login that it was made for.
    store: Mutex<Option<(Secrets, Arc<AmazonS3>)>>,
}

#[derive(PartialEq, Eq)]
struct Secrets {
    key_id: Option<String>,
    secret: Option<String>,
}

impl Bucket {
    pub fn new(address: Address, login: LoginSource) -> Self {
        Bucket { address, login, store: Mutex::default() }
    }

    fn store(&self) -> Result<Arc<AmazonS3>, Fault> {
        let login = (self.login)()?;
        let secrets = Secrets { key_id: login.key_id.clone(), secret: login.secret.clone() };
        let mut store = self.store.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((known, store)) = &*store
            && *known == secrets
        {
            return Ok(Arc::clone(store));
        }
        let made = Arc::new(build(&self.address, &login)?);
        *store = Some((secrets, Arc::clone(&made)));
        Ok(made)
    }

    fn key(&self, path: &str) -> Result<Path, Fault> {
        crate::check_path(path)?;
        let whole = crate::join(self.address.folder.trim_start_matches('/'), path);
        Path::parse(&whole).map_err(|error| Fault::Unsayable(error.to_string()))
    }

    fn ask<T, F>(&self, ask: impl FnOnce(Arc<AmazonS3>) -> F) -> Result<T, Fault>
    where
        F: Future<Output = Result<T, Fault>>,
    {
        let store = self.store()?;
        wait_for(ask(store))
    }
}

fn build(address: &Address, login: &Login) -> Result<AmazonS3, Fault> {
    // Whoever was first has chosen for the whole process.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut client = ClientOptions::new()
        .with_timeout_disabled()
        .with_read_timeout(PATIENCE)
        .with_connect_timeout(CONNECT)
        .with_allow_http(true);
    if let Some(path) = &login.certificates {
        let unfit = |error| CertificateFault::unfit(path, error);
        for one in certificates_in(path)? {
            let one = Certificate::from_der(&one).map_err(unfit)?;
            client = client.with_root_certificate(one);
        }
    }
    let retry = RetryConfig {
        backoff: BackoffConfig::default(),
        max_retries: 2,
        retry_timeout: Duration::from_secs(20),
    };
    let mut builder = AmazonS3Builder::new()
        .with_bucket_name(&address.host)
        .with_region(login.region.as_deref().unwrap_or("us-east-1"))
        .with_allow_http(true)
        .with_retry(retry)
        .with_client_options(client);
    if let Some(endpoint) = &login.endpoint {
        builder = builder.with_endpoint(endpoint);
    }
    builder = match (&login.key_id, &login.secret) {
        (Some(key_id), Some(secret)) => {
            builder.with_access_key_id(key_id).with_secret_access_key(secret)
        }
        _ => builder.with_skip_signature(true),
    };
    builder.build().map_err(|error| Fault::NotLetIn(error.to_string()))
}

/// What an answer of the store means.
#[allow(clippy::needless_pass_by_value, reason = "it is given to `map_err`")]
fn fault(error: Error) -> Fault {
    let words = |error: &Error| {
        let words: String = error.to_string().chars().take(400).collect();
        words.escape_debug().to_string()
    };
    match &error {
        Error::NotFound { .. } => Fault::Absent,
        Error::AlreadyExists { .. } | Error::Precondition { .. } => Fault::Occupied,
        Error::PermissionDenied { .. } => Fault::Refused(words(&error)),
        Error::Unauthenticated { .. } => Fault::NotLetIn(words(&error)),
        Error::InvalidPath { .. } | Error::NotSupported { .. } | Error::NotImplemented { .. } => {
            Fault::Refused(words(&error))
        }
        _ => Fault::Away(words(&error)),
    }
}

fn folder_named(name: &str) -> Listed {
    let (kind, bytes) = (Kind::Folder, 0);
    Listed { name: name.to_owned(), kind, bytes, modified: None, tag: None }
}

fn listed(meta: &ObjectMeta) -> Listed {
    Listed {
        name: meta.location.filename().unwrap_or_default().to_owned(),
        kind: Kind::File,
        bytes: meta.size,
        modified: Some(meta.last_modified.timestamp()),
        tag: meta.e_tag.clone(),
    }
}

impl Place for Bucket {
    fn greet(&self) -> Result<String, Fault> {
        self.list("", &mut |_| false)?;
        Ok(format!("{} by the interface of S3", self.address))
    }

    fn abilities(&self) -> Abilities {
        Abilities {
            whole: true,
            refuses_to_replace: true,
            resumes_writing: false,
            folders_by_name: true,
        }
    }

    fn list(&self, folder: &str, each: &mut Each<'_>) -> Result<(), Fault> {
        let key = self.key(folder)?;
        let prefix = key.as_ref();
        let prefix = if prefix.is_empty() { String::new() } else { format!("{prefix}/") };
        self.ask(async |store| {
            let mut token = None;
            let mut folder_told = String::new();
            loop {
                let options = PaginatedListOptions {
                    delimiter: Some("/".into()),
                    page_token: token,
                    ..PaginatedListOptions::default()
                };
                let page = store.list_paginated(Some(&prefix), options).await.map_err(fault)?;
                for folder in page.result.common_prefixes {
                    if !each(folder_named(folder.filename().unwrap_or_default())) {
                        return Ok(());
                    }
                }
                for object in &page.result.objects {
                    // Some stores have an object for the folder itself, and some know no folders.
                    let below = object.location.as_ref().strip_prefix(&prefix).unwrap_or("");
                    let go_on = match below.split_once('/') {
                        None => below.is_empty() || each(listed(object)),
                        Some((folder, _)) if folder == folder_told => true,
                        Some((folder, _)) => {
                            folder.clone_into(&mut folder_told);
                            each(folder_named(folder))
                        }
                    };
                    if !go_on {
                        return Ok(());
                    }
                }
                token = page.page_token;
                if token.is_none() {
                    return Ok(());
                }
            }
        })
    }

    fn look(&self, path: &str) -> Result<Option<Listed>, Fault> {
        let key = self.key(path)?;
        self.ask(async |store| match store.head(&key).await.map_err(fault) {
            Ok(meta) => Ok(Some(listed(&meta))),
            Err(Fault::Absent) => Ok(None),
            Err(fault) => Err(fault),
        })
    }

    fn read(&self, path: &str, from: u64, take: &mut Take<'_>) -> Result<(), Fault> {
        let key = self.key(path)?;
        self.ask(async |store| {
            let range = (from > 0).then_some(GetRange::Offset(from));
            let options = GetOptions { range, ..GetOptions::default() };
            let got = store.get_opts(&key, options).await.map_err(fault)?;
            let mut pieces = got.into_stream();
            while let Some(piece) = pieces.next().await {
                take(&piece.map_err(fault)?)?;
            }
            Ok(())
        })
    }

    fn write(
        &self,
        path: &str,
        _from: u64,
        bytes: u64,
        source: &mut (dyn Read + Send),
    ) -> Result<(), Fault> {
        self.write_whole(path, bytes, source, Over::Anything)
    }

    /// Where a file is longer than one part, whether something is there is seen before it is
    /// sent, and no later.
    fn write_whole(
        &self,
        path: &str,
        bytes: u64,
        source: &mut (dyn Read + Send),
        over: Over,
    ) -> Result<(), Fault> {
        let key = self.key(path)?;
        if over == Over::Nothing && self.look(path)?.is_some() {
            return Err(Fault::Occupied);
        }
        self.ask(async |store| {
            if bytes <= PART as u64 {
                let mut whole = vec![0; usize::try_from(bytes).unwrap_or(0)];
                source.read_exact(&mut whole)?;
                let mode = if over == Over::Nothing { PutMode::Create } else { PutMode::Overwrite };
                let put = store.put_opts(&key, PutPayload::from(whole), mode.into()).await;
                return put.map(drop).map_err(fault);
            }
            in_parts(&store, &key, bytes, source).await
        })
    }

    /// A copy, and then the first goes: both are there for a moment.
    fn rename(&self, from: &str, to: &str, over: Over) -> Result<(), Fault> {
        let (old, new) = (self.key(from)?, self.key(to)?);
        if over == Over::Nothing && self.look(to)?.is_some() {
            return Err(Fault::Occupied);
        }
        self.ask(async |store| {
            store.copy(&old, &new).await.map_err(fault)?;
            store.delete(&old).await.map_err(fault)
        })
    }

    fn remove(&self, path: &str) -> Result<(), Fault> {
        // Stores do not say whether there was one.
        if self.look(path)?.is_none() {
            return Err(Fault::Absent);
        }
        let key = self.key(path)?;
        self.ask(async |store| store.delete(&key).await.map_err(fault))
    }

    fn make_folder(&self, path: &str) -> Result<(), Fault> {
        self.key(path).map(drop)
    }
}

async fn in_parts(
    store: &AmazonS3,
    key: &Path,
    bytes: u64,
    source: &mut (dyn Read + Send),
) -> Result<(), Fault> {
    let part = PART.max(usize::try_from(bytes / PARTS + 1).unwrap_or(usize::MAX));
    let mut upload = store.put_multipart(key).await.map_err(fault)?;
    let mut sent = async || {
        let mut under_way = futures_util::stream::FuturesUnordered::new();
        let mut left = bytes;
        while left > 0 {
            let length = usize::try_from(left).unwrap_or(part).min(part);
            let mut piece = vec![0; length];
            source.read_exact(&mut piece)?;
            under_way.push(upload.put_part(PutPayload::from(piece)));
            left -= length as u64;
            if under_way.len() >= UNDER_WAY
                && let Some(put) = under_way.next().await
            {
                put.map_err(fault)?;
            }
        }
        while let Some(put) = under_way.next().await {
            put.map_err(fault)?;
        }
        Ok::<(), Fault>(())
    };
    let sent = sent().await;
    match sent {
        Ok(()) => upload.complete().await.map(drop).map_err(fault),
        Err(failed) => {
            // What was sent of it would be paid for; when that fails too the store's own rules
            // for what was begun and not ended hold.
            let _ = upload.abort().await;
            Err(failed)
        }
    }
}
