//! The place that all processes reach: things by name, in a directory or an object store.

use std::path::PathBuf;
use std::sync::Arc;

use futures::{StreamExt, TryStreamExt};
use object_store::aws::AmazonS3Builder;
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::{ObjectStore, ObjectStoreExt, PutMode, PutPayload};

use crate::Error;
use crate::error::Result;

/// What lies there. Names are parts with slashes between them.
pub(crate) struct Shelf {
    store: Arc<dyn ObjectStore>,
    prefix: Path,
    /// as it was given
    place: String,
    /// the directory, where it is one
    directory: Option<PathBuf>,
    runtime: Arc<tokio::runtime::Runtime>,
}

impl Shelf {
    /// Opens a directory, which is made where it is not there, or `s3://bucket/prefix`; how the store is reached, and by whom, is
    /// told by the environment (`AWS_ENDPOINT`, `AWS_REGION`, `AWS_ACCESS_KEY_ID`, `AWS_SECRET_ACCESS_KEY`).
    pub fn open(place: &str) -> Result<Self> {
        let wrong = |why: String| Error::Place { place: place.to_owned(), why };
        let (store, prefix): (Arc<dyn ObjectStore>, Path) = match place.split_once("://") {
            Some(("s3", rest)) => {
                let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
                if bucket.is_empty() {
                    return Err(wrong("it names no bucket; write s3://bucket/prefix".into()));
                }
                // An error means that one is installed already.
                let _ = rustls::crypto::ring::default_provider().install_default();
                let builder = AmazonS3Builder::from_env().with_bucket_name(bucket);
                // A store of one's own is often reached without encryption; where to is told by the environment.
                let plain =
                    std::env::var("AWS_ENDPOINT").is_ok_and(|endpoint| endpoint.starts_with("http://"));
                let store = if plain { builder.with_allow_http(true) } else { builder };
                let store = store.build().map_err(|e| wrong(e.to_string()))?;
                (Arc::new(store), Path::parse(prefix.trim_matches('/')).map_err(|e| wrong(e.to_string()))?)
            }
            Some((scheme, _)) => {
                return Err(wrong(format!("{scheme} is not known; give a directory or s3://bucket/prefix")));
            }
            None => {
                std::fs::create_dir_all(place).map_err(|e| wrong(e.to_string()))?;
                let store = LocalFileSystem::new_with_prefix(place).map_err(|e| wrong(e.to_string()))?;
                (Arc::new(store.with_automatic_cleanup(false)), Path::default())
            }
        };
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build()
            .map_err(|e| wrong(e.to_string()))?;
        let directory = (!place.contains("://")).then(|| PathBuf::from(place));
        Ok(Self { store, prefix, place: place.to_owned(), directory, runtime: Arc::new(runtime) })
    }

    /// A part of it, which knows nothing of the rest.
    pub fn below(&self, name: &str) -> Arc<Self> {
        Arc::new(Self {
            store: Arc::clone(&self.store),
            prefix: self.path(name),
            place: format!("{}/{name}", self.place.trim_end_matches('/')),
            directory: self.directory.as_ref().map(|directory| directory.join(name)),
            runtime: Arc::clone(&self.runtime),
        })
    }

    fn path(&self, name: &str) -> Path {
        name.split('/').fold(self.prefix.clone(), |path, part| path.join(part))
    }

    pub fn place(&self) -> &str {
        &self.place
    }

    pub fn access(&self, name: &str, why: impl std::fmt::Display) -> Error {
        Error::Access { place: self.place.clone(), name: name.to_owned(), why: why.to_string() }
    }

    pub fn damaged(&self, name: &str) -> Error {
        Error::Damaged { place: self.place.clone(), name: name.to_owned() }
    }

    /// Puts something under a name, in place of what is there. Nobody sees half of it.
    pub fn put(&self, name: &str, bytes: Vec<u8>) -> Result<()> {
        let path = self.path(name);
        let put = self.store.put(&path, PutPayload::from(bytes));
        self.runtime.block_on(put).map(|_| ()).map_err(|e| self.access(name, e))
    }

    /// Puts something under a name that nothing has yet; whether it was so. Of several that try, one succeeds.
    pub fn create(&self, name: &str, bytes: Vec<u8>) -> Result<bool> {
        let path = self.path(name);
        let put = self.store.put_opts(&path, PutPayload::from(bytes), PutMode::Create.into());
        match self.runtime.block_on(put) {
            Ok(_) => Ok(true),
            Err(object_store::Error::AlreadyExists { .. } | object_store::Error::Precondition { .. }) => {
                Ok(false)
            }
            Err(e) => Err(self.access(name, e)),
        }
    }

    /// What lies under a name; none where nothing does.
    pub fn find(&self, name: &str) -> Result<Option<Vec<u8>>> {
        let path = self.path(name);
        let got = self.runtime.block_on(async { self.store.get(&path).await?.bytes().await });
        match got {
            Ok(bytes) => Ok(Some(bytes.into())),
            Err(object_store::Error::NotFound { .. }) => Ok(None),
            Err(e) => Err(self.access(name, e)),
        }
    }

    /// What lies under a name that must be there.
    pub fn get(&self, name: &str) -> Result<Vec<u8>> {
        self.find(name)?.ok_or_else(|| self.access(name, "it is not there any more"))
    }

    /// The names below a name, without it.
    pub fn list(&self, below: &str) -> Result<Vec<String>> {
        let prefix = self.path(below);
        let found: object_store::Result<Vec<_>> =
            self.runtime.block_on(async { self.store.list(Some(&prefix)).try_collect().await });
        let found = found.map_err(|e| self.access(below, e))?;
        let name = |path: Path| {
            path.prefix_match(&prefix).map(|p| p.map(|p| p.as_ref().to_owned()).collect::<Vec<_>>().join("/"))
        };
        Ok(found.into_iter().filter_map(|meta| name(meta.location)).collect())
    }

    /// Takes away all but some names.
    pub fn clear(&self, but: &[&str]) -> Result<()> {
        let kept: Vec<Path> = but.iter().map(|name| self.path(name)).collect();
        let prefix = (!self.prefix.as_ref().is_empty()).then_some(&self.prefix);
        let cleared: object_store::Result<()> = self.runtime.block_on(async {
            let all: Vec<_> = self.store.list(prefix).map_ok(|meta| meta.location).try_collect().await?;
            let gone: Vec<_> = all.into_iter().filter(|path| !kept.contains(path)).map(Ok).collect();
            let mut gone = self.store.delete_stream(futures::stream::iter(gone).boxed());
            while let Some(one) = gone.next().await {
                match one {
                    // Its owner was faster.
                    Ok(_) | Err(object_store::Error::NotFound { .. }) => {}
                    Err(e) => return Err(e),
                }
            }
            Ok(())
        });
        cleared.map_err(|e| self.access("what was computed", e))?;
        if let (Some(directory), []) = (&self.directory, but) {
            // Directories hold nothing now; where another puts something meanwhile, they stay.
            let _ = std::fs::remove_dir_all(directory);
        }
        Ok(())
    }

    /// Takes a name away, if it is there.
    pub fn remove(&self, name: &str) -> Result<()> {
        match self.runtime.block_on(self.store.delete(&self.path(name))) {
            Ok(()) | Err(object_store::Error::NotFound { .. }) => Ok(()),
            Err(e) => Err(self.access(name, e)),
        }
    }
}
