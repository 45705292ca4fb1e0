//! A session: how it begins, and many requests in flight on it.

pub(crate) mod opening;

use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
    time::Duration,
};

use bytes::{Bytes, BytesMut};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, BufReader},
    sync::{OwnedSemaphorePermit, Semaphore, mpsc},
    time::Instant,
};
use wetbank_requests::{Reason, Table};

use crate::{
    Error, LONGEST, Malformed, Status,
    message::{Answer, Command, Created, Negotiated, ROOM, Request, close},
    protect::{Keys, SEALED_HEADER, is_sealed},
    wire::Fields,
};
use opening::Opened;
pub use opening::{Account, Protection, Secured};

/// Small requests that wait together go out together, up to so many bytes.
const TOGETHER: usize = 60_000;

/// One connection on which somebody is signed in.
#[derive(Debug)]
pub(crate) struct Session {
    shared: Arc<Shared>,
    silence: Duration,
    pub negotiated: Negotiated,
}

#[derive(Debug)]
struct Shared {
    requests: Table<u64, Answer, Error>,
    /// The number of the next request.
    next_id: AtomicU64,
    outgoing: mpsc::UnboundedSender<Bytes>,
    /// What the server still takes; each request costs some, each answer grants some.
    credits: Arc<Semaphore>,
    in_flight: AtomicUsize,
    keys: Keys,
    id: u64,
    is_sealed: bool,
    has_credits: bool,
}

impl Reason for Error {
    fn closed() -> Self {
        Self::Lost("it was closed".to_owned())
    }

    fn silent(time: Duration) -> Self {
        Self::TimedOut(time)
    }
}

impl Shared {
    /// The number of a request that was paid for: it counts as many as it cost.
    fn number(&self, request: &Request) -> u64 {
        self.next_id.fetch_add(u64::from(request.cost), Ordering::Relaxed)
    }

    fn send(&self, id: u64, request: Request, tree: u32) -> Result<(), Error> {
        let message = request.finish(id, tree, self.id, !self.is_sealed, self.has_credits);
        let sent = self.outgoing.send(protected(message, &self.keys, self.is_sealed, self.id));
        sent.map_err(|_| self.requests.reason())
    }

    /// Sends one whose answer nobody waits for.
    fn send_blindly(&self, request: Request, tree: u32) {
        if !self.requests.is_closed() {
            let _ = self.send(self.number(&request), request, tree);
        }
    }

    /// An answer that is truly the server's.
    fn believed(&self, mut frame: BytesMut) -> Result<Answer, Malformed> {
        if is_sealed(&frame) {
            if !self.keys.open(&mut frame)? {
                return Err(Malformed("an answer that was changed on the way"));
            }
            return Answer::read(frame.split_off(SEALED_HEADER).freeze());
        }
        if self.is_sealed {
            return Err(Malformed("an answer that is not encrypted"));
        }
        // An interim answer says only that one must wait, and need not be signed (section 3.2.5.1.3).
        let is_interim = frame.u32_at(8)? == Status::PENDING.0;
        if !is_interim && !self.keys.is_signed(&mut frame)? {
            return Err(Malformed("an answer that is not signed, or was changed on the way"));
        }
        Answer::read(frame.freeze())
    }
}

/// Signs or encrypts a message and puts its length in front.
fn protected(mut message: Vec<u8>, keys: &Keys, is_sealed: bool, session: u64) -> Bytes {
    let begin = if is_sealed {
        keys.seal(&mut message[4..], session);
        0
    } else {
        keys.sign(&mut message[ROOM..]);
        SEALED_HEADER
    };
    framed(message, begin)
}

/// A message that begins behind `begin`, with its length there.
fn framed(mut message: Vec<u8>, begin: usize) -> Bytes {
    let length = u32::try_from(message.len() - begin - 4).expect("messages are short");
    message[begin..begin + 4].copy_from_slice(&length.to_be_bytes());
    Bytes::from(message).slice(begin..)
}

impl Drop for Session {
    fn drop(&mut self) {
        self.shared.requests.end(Error::closed());
    }
}

impl Session {
    /// Takes over a connection on which somebody has signed in.
    pub fn start<S: AsyncRead + AsyncWrite + Send + 'static>(opened: Opened<S>, silence: Duration) -> Self {
        let Opened { stream, negotiated, keys, session, is_sealed, next_id, credits } = opened;
        let (outgoing, frames) = mpsc::unbounded_channel();
        let shared = Arc::new(Shared {
            requests: Table::default(),
            next_id: AtomicU64::new(next_id),
            outgoing,
            credits: Arc::new(Semaphore::new(credits)),
            in_flight: AtomicUsize::new(0),
            keys,
            id: session,
            is_sealed,
            has_credits: negotiated.has_credits,
        });
        let (incoming, outgoing) = tokio::io::split(stream);
        tokio::spawn(write_all(shared.clone(), outgoing, frames));
        tokio::spawn(read_all(shared.clone(), incoming));
        Self { shared, silence, negotiated }
    }

    pub fn is_closed(&self) -> bool {
        self.shared.requests.is_closed()
    }

    pub fn in_flight(&self) -> usize {
        self.shared.in_flight.load(Ordering::Relaxed)
    }

    /// How many credits wait to be spent.
    pub fn credits(&self) -> usize {
        self.shared.credits.available_permits()
    }

    /// Closes a file some time; nobody waits for it. Whatever is asked next comes behind it
    /// unless the server takes no more requests now.
    pub fn close_later(&self, id: [u8; 16], tree: u32) {
        close_later(&self.shared, id, tree);
    }

    async fn pay(&self, cost: u16) -> Result<OwnedSemaphorePermit, Error> {
        let requests = &self.shared.requests;
        tokio::select! {
            paid = self.shared.credits.clone().acquire_many_owned(cost.into()) => paid.map_err(|_| requests.reason()),
            () = requests.gone() => Err(requests.reason()),
            // Without credits nothing can be asked, and without an answer none are granted.
            () = requests.silent_since(Instant::now(), self.silence) => Err(requests.give_up(self.silence)),
        }
    }

    /// Sends a request and waits for its answer, whatever it says. A caller that goes away is no
    /// harm: the answer is thrown away, and a file that it opened is closed.
    pub async fn ask(&self, request: Request, tree: u32) -> Result<Answer, Error> {
        let shared = &self.shared;
        let command = request.command;
        self.pay(request.cost).await?.forget();
        shared.in_flight.fetch_add(1, Ordering::Relaxed);
        let _counted = Counted(shared);
        let id = shared.number(&request);
        let answered = shared.requests.register(id)?;
        shared.send(id, request, tree)?;
        let answer = shared.requests.wait(answered, self.silence).await?;
        if answer.command == command as u16 { Ok(answer) } else { Err(Malformed("an answer to something else").into()) }
    }

    /// Sends a request whose answer must not say no.
    pub async fn request(&self, request: Request, tree: u32) -> Result<Answer, Error> {
        let answer = self.ask(request, tree).await?;
        if answer.status.ends_session() {
            self.shared.requests.end(Error::Status(answer.status));
        }
        if answer.status.is_error() { Err(Error::Status(answer.status)) } else { Ok(answer) }
    }
}

struct Counted<'a>(&'a Shared);

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.in_flight.fetch_sub(1, Ordering::Relaxed);
    }
}

fn close_later(shared: &Arc<Shared>, id: [u8; 16], tree: u32) {
    if let Ok(paid) = shared.credits.try_acquire() {
        paid.forget();
        shared.send_blindly(close(&id), tree);
        return;
    }
    let shared = shared.clone();
    if let Ok(runtime) = tokio::runtime::Handle::try_current() {
        runtime.spawn(async move {
            tokio::select! {
                paid = shared.credits.acquire() => if let Ok(paid) = paid {
                    paid.forget();
                    shared.send_blindly(close(&id), tree);
                },
                () = shared.requests.gone() => {}
            }
        });
    }
}

/// Reads the next message, without its length.
async fn next_frame(incoming: &mut (impl AsyncRead + Unpin)) -> Result<BytesMut, Error> {
    let length = incoming.read_u32().await.map_err(|_| Error::Lost("the server closed it".to_owned()))? as usize;
    if length > LONGEST {
        return Err(Malformed("a message longer than any that was asked for").into());
    }
    let mut frame = BytesMut::zeroed(length);
    incoming.read_exact(&mut frame).await?;
    Ok(frame)
}

/// Sends what callers queue. The only task that sends, because a send is not atomic; a send is
/// never cancelled, but abandoned with the whole connection.
async fn write_all(
    shared: Arc<Shared>,
    mut outgoing: impl AsyncWrite + Unpin,
    mut frames: mpsc::UnboundedReceiver<Bytes>,
) {
    loop {
        let frame = tokio::select! {
            frame = frames.recv() => frame,
            () = shared.requests.gone() => None,
        };
        let Some(frame) = frame else {
            let _ = outgoing.shutdown().await;
            return;
        };
        let mut together = BytesMut::from(frame);
        while together.len() < TOGETHER
            && let Ok(next) = frames.try_recv()
        {
            together.extend_from_slice(&next);
        }
        let sent = tokio::select! {
            sent = outgoing.write_all(&together) => sent,
            () = shared.requests.gone() => return,
        };
        if let Err(error) = sent {
            shared.requests.end(error.into());
            return;
        }
    }
}

/// Hands answers to those who wait for them.
async fn read_all(shared: Arc<Shared>, incoming: impl AsyncRead + Unpin) {
    let mut incoming = BufReader::with_capacity(64 << 10, incoming);
    loop {
        let frame = tokio::select! {
            frame = next_frame(&mut incoming) => frame,
            () = shared.requests.gone() => return,
        };
        let answer = frame.and_then(|frame| Ok(shared.believed(frame)?));
        match answer {
            Ok(answer) => hand_over(&shared, answer),
            Err(error) => {
                shared.requests.end(error);
                return;
            }
        }
    }
}

fn hand_over(shared: &Arc<Shared>, answer: Answer) {
    shared.requests.heard();
    shared.credits.add_permits(answer.credits.into());
    if answer.status == Status::PENDING {
        return;
    }
    let id = answer.id;
    let unwanted = shared.requests.answer(&id, answer);
    // A caller that went away while its file was being opened leaves it open.
    if let Some(answer) = unwanted
        && answer.command == Command::Create as u16
        && !answer.status.is_error()
        && let Ok(created) = Created::read(&answer)
    {
        close_later(shared, created.id, answer.tree);
    }
}
