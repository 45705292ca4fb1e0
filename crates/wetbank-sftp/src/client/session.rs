//! One reader task, one writer task, a table of who waits for which answer.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU32, AtomicU64, Ordering},
    },
    time::Duration,
};

use bytes::{Bytes, BytesMut};
use parking_lot::Mutex;
use tokio::{
    sync::{Semaphore, mpsc, oneshot},
    time::Instant,
};
use tokio_util::sync::CancellationToken;

use super::ClientError;
use crate::{
    Incoming, Malformed, Outgoing,
    codec::{Fields, Packet, Packets, kind},
};

/// However lively the rest of the connection, no single request waits longer than this many
/// times the allowed silence.
const PATIENCE: u32 = 10;
/// Small requests that wait together go out together, up to so many bytes: one SSH packet, one
/// call of the kernel, instead of one of each for every request.
const TOGETHER: usize = 30_000;
/// Extensions that a hello may name.
const EXTENSIONS: usize = 64;

#[derive(Debug)]
pub(super) struct Session {
    shared: Arc<Shared>,
    outgoing: mpsc::Sender<Bytes>,
    closing: mpsc::UnboundedSender<Bytes>,
    slots: Semaphore,
    slot_count: usize,
    silence: Duration,
    extensions: Vec<String>,
}

#[derive(Debug)]
struct Shared {
    waiting: Mutex<Waiting>,
    next_id: AtomicU32,
    began: Instant,
    /// Milliseconds after `began` at which the server last said anything.
    heard: AtomicU64,
    gone: CancellationToken,
}

#[derive(Debug, Default)]
struct Waiting {
    answers: HashMap<u32, oneshot::Sender<(u8, Bytes)>>,
    /// Why the connection ended.
    reason: Option<ClientError>,
}

impl Shared {
    fn lock(&self) -> parking_lot::MutexGuard<'_, Waiting> {
        self.waiting.lock()
    }

    /// Ends the connection: everybody who waits is told.
    fn end(&self, reason: ClientError) {
        let mut waiting = self.lock();
        waiting.reason.get_or_insert(reason);
        waiting.answers.clear();
        drop(waiting);
        self.gone.cancel();
    }

    fn reason(&self) -> ClientError {
        self.lock().reason.clone().unwrap_or_else(|| ClientError::Lost("it was closed".to_owned()))
    }

    fn heard_now(&self) {
        self.heard.store(self.began.elapsed().as_millis() as u64, Ordering::Relaxed);
    }

    fn last_heard(&self) -> Instant {
        self.began + Duration::from_millis(self.heard.load(Ordering::Relaxed))
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        self.shared.end(ClientError::Lost("it was closed".to_owned()));
    }
}

impl Session {
    pub async fn start(
        mut incoming: impl Incoming,
        mut outgoing: impl Outgoing,
        silence: Duration,
        slots: usize,
    ) -> Result<Self, ClientError> {
        let hello = Packet::new(kind::INIT).u32(3).finish();
        let mut packets = Packets::default();
        let version = tokio::time::timeout(silence, async {
            outgoing.send(hello).await?;
            next_packet(&mut incoming, &mut packets).await
        });
        let version = version.await.map_err(|_| ClientError::TimedOut(silence))??;
        let extensions = read_version(version)?;
        let shared = Arc::new(Shared {
            waiting: Mutex::default(),
            next_id: AtomicU32::new(1),
            began: Instant::now(),
            heard: AtomicU64::new(0),
            gone: CancellationToken::new(),
        });
        let (to_writer, from_callers) = mpsc::channel(slots);
        let (closing, handles) = mpsc::unbounded_channel();
        tokio::spawn(write_all(shared.clone(), outgoing, from_callers, handles));
        tokio::spawn(read_all(shared.clone(), incoming, packets, closing.clone()));
        Ok(Self {
            shared,
            outgoing: to_writer,
            closing,
            slots: Semaphore::new(slots),
            slot_count: slots,
            silence,
            extensions,
        })
    }

    pub fn offers(&self, extension: &str) -> bool {
        self.extensions.iter().any(|offered| offered == extension)
    }

    pub fn is_closed(&self) -> bool {
        self.shared.gone.is_cancelled()
    }

    pub fn in_flight(&self) -> usize {
        self.slot_count - self.slots.available_permits()
    }

    /// Closes a handle some time; nobody waits for it.
    pub fn close_later(&self, handle: Bytes) {
        let _ = self.closing.send(handle);
    }

    /// Sends a request and waits for its answer. A caller that goes away is no harm: the answer
    /// is thrown away, and a handle in it is closed.
    pub async fn request(&self, build: impl FnOnce(u32) -> Packet) -> Result<(u8, Bytes), ClientError> {
        let shared = &self.shared;
        let _slot = tokio::select! {
            slot = self.slots.acquire() => slot.map_err(|_| shared.reason())?,
            () = shared.gone.cancelled() => return Err(shared.reason()),
        };
        let id = shared.next_id.fetch_add(1, Ordering::Relaxed);
        let (answer, mut answered) = oneshot::channel();
        {
            let mut waiting = shared.lock();
            if waiting.reason.is_some() {
                drop(waiting);
                return Err(shared.reason());
            }
            waiting.answers.insert(id, answer);
        }
        tokio::select! {
            sent = self.outgoing.send(build(id).finish()) => sent.map_err(|_| shared.reason())?,
            () = shared.gone.cancelled() => return Err(shared.reason()),
        }
        let sent = Instant::now();
        loop {
            // Silence counts from the last sign of life, so that a slow line is no dead line.
            let deadline = (sent.max(shared.last_heard()) + self.silence).min(sent + self.silence * PATIENCE);
            tokio::select! {
                answer = &mut answered => return answer.map_err(|_| shared.reason()),
                () = tokio::time::sleep_until(deadline) => {
                    let quiet = shared.last_heard().max(sent) + self.silence <= Instant::now();
                    if quiet || sent + self.silence * PATIENCE <= Instant::now() {
                        let error = ClientError::TimedOut(self.silence);
                        shared.end(error.clone());
                        return Err(error);
                    }
                }
            }
        }
    }
}

async fn next_packet(incoming: &mut impl Incoming, packets: &mut Packets) -> Result<Bytes, ClientError> {
    loop {
        if let Some(packet) = packets.next()? {
            return Ok(packet);
        }
        match incoming.next().await? {
            Some(bytes) => packets.extend(&bytes),
            None => return Err(ClientError::Lost("the server closed it".to_owned())),
        }
    }
}

fn read_version(mut packet: Bytes) -> Result<Vec<String>, Malformed> {
    if packet.u8_field()? != kind::VERSION {
        return Err(Malformed("no hello"));
    }
    if packet.u32_field()? < 3 {
        return Err(Malformed("its version is older than 3"));
    }
    let mut extensions = Vec::new();
    while !packet.is_empty() && extensions.len() < EXTENSIONS {
        let name = packet.string_field()?;
        let _data = packet.string_field()?;
        extensions.push(String::from_utf8_lossy(&name).into_owned());
    }
    Ok(extensions)
}

/// Sends what callers queue. The only task that sends, because a send is not atomic; a send is
/// never cancelled, but abandoned with the whole connection.
async fn write_all(
    shared: Arc<Shared>,
    mut outgoing: impl Outgoing,
    mut packets: mpsc::Receiver<Bytes>,
    mut handles: mpsc::UnboundedReceiver<Bytes>,
) {
    loop {
        let packet = tokio::select! {
            packet = packets.recv() => packet,
            handle = handles.recv() => handle.map(|handle| {
                // Nobody is in the table for this number: the answer is thrown away.
                let id = shared.next_id.fetch_add(1, Ordering::Relaxed);
                Packet::numbered(kind::CLOSE, id).string(&handle).finish()
            }),
            () = shared.gone.cancelled() => return,
        };
        let Some(packet) = packet else { return };
        let (packet, large) = gather(packet, &mut packets);
        for packet in std::iter::once(packet).chain(large) {
            let sent = tokio::select! {
                sent = outgoing.send(packet) => sent,
                () = shared.gone.cancelled() => return,
            };
            if let Err(error) = sent {
                shared.end(error.into());
                return;
            }
        }
    }
}

/// Puts small packets that wait already behind this one; a large one that follows stays apart.
fn gather(packet: Bytes, packets: &mut mpsc::Receiver<Bytes>) -> (Bytes, Option<Bytes>) {
    if packet.len() >= TOGETHER {
        return (packet, None);
    }
    let Ok(next) = packets.try_recv() else { return (packet, None) };
    let mut together = BytesMut::from(packet);
    let mut next = Some(next);
    while let Some(packet) = next.take() {
        if together.len() + packet.len() > TOGETHER {
            return (together.freeze(), Some(packet));
        }
        together.extend_from_slice(&packet);
        next = packets.try_recv().ok();
    }
    (together.freeze(), None)
}

/// Hands answers to those who wait for them.
async fn read_all(
    shared: Arc<Shared>,
    mut incoming: impl Incoming,
    mut packets: Packets,
    closing: mpsc::UnboundedSender<Bytes>,
) {
    loop {
        let packet = tokio::select! {
            packet = next_packet(&mut incoming, &mut packets) => packet,
            () = shared.gone.cancelled() => return,
        };
        let result = packet.and_then(|mut packet| {
            shared.heard_now();
            let (kind, id) = (packet.u8_field()?, packet.u32_field()?);
            let waiting = shared.lock().answers.remove(&id);
            let unwanted = match waiting {
                Some(answer) => answer.send((kind, packet)).err(),
                None => None,
            };
            // A caller that went away while its file was being opened leaves a handle behind.
            if let Some((kind::HANDLE, mut body)) = unwanted
                && let Ok(handle) = body.string_field()
            {
                let _ = closing.send(handle);
            }
            Ok(())
        });
        if let Err(error) = result {
            shared.end(error);
            return;
        }
    }
}
