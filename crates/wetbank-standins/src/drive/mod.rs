//! A small cloud drive: WebDAV (RFC 4918) with changes since a token (RFC 6578), opened by what a
//! person agreed to on its sign-in page (OAuth 2.0, RFC 6749). Files are kept in memory.

mod dav;
mod pages;
mod sign_in;
mod tree;

use std::{collections::BTreeMap, io, net::SocketAddr, sync::Arc};

use axum::{
    Router,
    extract::{Request, State},
    response::Response,
    routing::{get, post},
};
use bytes::Bytes;
use parking_lot::{Mutex, MutexGuard};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

use crate::guests::serve_web;
use sign_in::Grants;
use tree::Tree;

/// Somebody who has a folder tree on the drive.
#[derive(Debug, Clone)]
pub struct DriveUser {
    /// The organisation whose files these are; its tree is at `/dav/TENANT`.
    pub tenant: String,
    /// The name on the sign-in page.
    pub name: String,
    /// The password there.
    pub password: String,
}

/// How a stand-in is set up.
#[derive(Debug, Clone)]
pub struct DriveStandinOptions {
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Who has files there.
    pub users: Vec<DriveUser>,
    /// The program that may ask for agreement, by the name it is registered under.
    pub client: String,
    /// Entries of a page of changes.
    pub page: usize,
    /// For how many seconds an access token is good.
    pub token_seconds: u64,
}

impl DriveStandinOptions {
    /// A drive for these users on a free port of this machine.
    pub fn new(users: Vec<DriveUser>) -> Self {
        let listen = ([127, 0, 0, 1], 0).into();
        Self { listen, users, client: "wetbank".to_owned(), page: 200, token_seconds: 3600 }
    }
}

/// What it does wrong on purpose.
#[derive(Debug, Default)]
struct Mischief {
    /// So many requests are answered with 429 and this many seconds to wait.
    busy: (u32, u64),
    /// Tokens of changes given so far are no longer known.
    forgets_changes: bool,
    /// The next listing breaks off in the middle.
    cuts_listing: bool,
}

/// A running stand-in. Dropping it stops it; its files are gone then.
#[derive(Debug)]
pub struct DriveStandin {
    address: SocketAddr,
    served: Arc<Served>,
    stop: CancellationToken,
}

#[derive(Debug)]
struct Served {
    options: DriveStandinOptions,
    origin: String,
    trees: Mutex<BTreeMap<String, Tree>>,
    grants: Mutex<Grants>,
    mischief: Mutex<Mischief>,
    /// Requests for files and listings so far, by method.
    asked: Mutex<BTreeMap<String, u64>>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock()
}

impl DriveStandin {
    /// Starts with an empty tree for every tenant.
    ///
    /// # Errors
    /// If it cannot listen there.
    pub async fn start(options: DriveStandinOptions) -> io::Result<Self> {
        let listener = TcpListener::bind(options.listen).await?;
        let address = listener.local_addr()?;
        let trees = options.users.iter().map(|user| (user.tenant.clone(), Tree::default())).collect();
        let served = Arc::new(Served {
            options,
            origin: format!("http://{address}"),
            trees: Mutex::new(trees),
            grants: Mutex::default(),
            mischief: Mutex::default(),
            asked: Mutex::default(),
        });
        let router = Router::new()
            .route("/.well-known/oauth-authorization-server", get(sign_in::metadata))
            .route("/authorize", get(pages::authorize).post(pages::agree))
            .route("/device", get(pages::device).post(pages::agree_device))
            .route("/device-authorization", post(sign_in::device))
            .route("/token", post(sign_in::token))
            .fallback(files)
            .with_state(served.clone());
        let stop = CancellationToken::new();
        serve_web(listener, router, stop.clone());
        Ok(Self { address, served, stop })
    }

    /// The address of the drive, which is also that of its sign-in.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// The address of a tenant's files.
    pub fn files(&self, tenant: &str) -> String {
        format!("{}/dav/{tenant}", self.url())
    }

    fn with_tree<T>(&self, tenant: &str, work: impl FnOnce(&mut Tree) -> T) -> T {
        let mut trees = locked(&self.served.trees);
        work(trees.entry(tenant.to_owned()).or_default())
    }

    /// Puts a file there, as somebody else would; folders above it are made.
    pub fn put(&self, tenant: &str, path: impl AsRef<[u8]>, content: impl Into<Bytes>, who: &str) {
        let path = path.as_ref();
        self.with_tree(tenant, |tree| tree.put_with_folders(&dav::kept(path), content.into(), who));
    }

    /// Makes a folder and those above it.
    pub fn make_folder(&self, tenant: &str, path: &str) {
        self.with_tree(tenant, |tree| tree.make_folders(&dav::kept(path.as_bytes())));
    }

    /// The content of a file.
    pub fn get(&self, tenant: &str, path: impl AsRef<[u8]>) -> Option<Bytes> {
        self.with_tree(tenant, |tree| tree.get(&dav::kept(path.as_ref())).and_then(|node| node.content.clone()))
    }

    /// Whether there is a folder.
    pub fn has_folder(&self, tenant: &str, path: &str) -> bool {
        self.with_tree(tenant, |tree| tree.get(&dav::kept(path.as_bytes())).is_some_and(|node| node.content.is_none()))
    }

    /// The paths of all files in their order.
    pub fn paths(&self, tenant: &str) -> Vec<String> {
        let kept = self.with_tree(tenant, |tree| tree.files());
        kept.iter().map(|path| String::from_utf8_lossy(&dav::told_bytes(path)).into_owned()).collect()
    }

    /// Removes a tenant with all it has.
    pub fn remove(&self, tenant: &str) {
        locked(&self.served.trees).remove(tenant);
    }

    /// Agrees in a user's name, as on the page; answers the lasting half of the agreement.
    pub fn grant(&self, user: &str, rights: &[&str]) -> String {
        locked(&self.served.grants).grant(user, rights.iter().map(|right| (*right).to_owned()).collect())
    }

    /// Agrees to what a device asks for under this code; answers whether there is one.
    pub fn agree_to_device(&self, code: &str, user: &str) -> bool {
        locked(&self.served.grants).answer_device(code, Some(user))
    }

    /// Agrees to whatever a device asks for now; answers whether one does.
    pub fn agree_to_any_device(&self, user: &str) -> bool {
        locked(&self.served.grants).answer_any_device(user)
    }

    /// Ends all that was agreed to, as an administrator would.
    pub fn revoke_all(&self) {
        locked(&self.served.grants).revoke_all();
    }

    /// Ends every access token: a lasting agreement brings a new one.
    pub fn end_access(&self) {
        locked(&self.served.grants).end_access();
    }

    /// Answers so many requests with "too many", and to wait so many seconds.
    pub fn be_busy(&self, requests: u32, seconds: u64) {
        locked(&self.served.mischief).busy = (requests, seconds);
    }

    /// Forgets which changes were told so far.
    pub fn forget_changes(&self) {
        locked(&self.served.mischief).forgets_changes = true;
    }

    /// Breaks the next listing off in the middle.
    pub fn cut_listing(&self) {
        locked(&self.served.mischief).cuts_listing = true;
    }

    /// How many requests of a method there were for files and listings.
    pub fn asked(&self, method: &str) -> u64 {
        locked(&self.served.asked).get(method).copied().unwrap_or_default()
    }
}

impl Drop for DriveStandin {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

async fn files(State(served): State<Arc<Served>>, request: Request) -> Response {
    dav::answer(&served, request).await
}
