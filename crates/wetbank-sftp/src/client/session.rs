//! One reader task, one writer task, a table of who waits for which answer.

use std::{
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use bytes::{Bytes, BytesMut};
use tokio::sync::{Semaphore, mpsc};
use wetbank_requests::{Reason, Table};

use super::ClientError;
use crate::{
    Incoming, Malformed, Outgoing,
    codec::{Fields, Packet, Packets, kind},
};

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

#[derive(Debug, Default)]
struct Shared {
    requests: Table<u32, (u8, Bytes), ClientError>,
    next_id: AtomicU32,
}

impl Reason for ClientError {
    fn closed() -> Self {
        Self::Lost("it was closed".to_owned())
    }

    fn silent(time: Duration) -> Self {
        Self::TimedOut(time)
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        self.shared.requests.end(ClientError::closed());
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
        let shared = Arc::new(Shared::default());
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
        self.shared.requests.is_closed()
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
        let requests = &self.shared.requests;
        let _slot = tokio::select! {
            slot = self.slots.acquire() => slot.map_err(|_| requests.reason())?,
            () = requests.gone() => return Err(requests.reason()),
        };
        let id = self.shared.next_id.fetch_add(1, Ordering::Relaxed);
        let answered = requests.register(id)?;
        tokio::select! {
            sent = self.outgoing.send(build(id).finish()) => sent.map_err(|_| requests.reason())?,
            () = requests.gone() => return Err(requests.reason()),
        }
        requests.wait(answered, self.silence).await
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
            () = shared.requests.gone() => return,
        };
        let Some(packet) = packet else { return };
        let (packet, large) = gather(packet, &mut packets);
        for packet in std::iter::once(packet).chain(large) {
            let sent = tokio::select! {
                sent = outgoing.send(packet) => sent,
                () = shared.requests.gone() => return,
            };
            if let Err(error) = sent {
                shared.requests.end(error.into());
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
            () = shared.requests.gone() => return,
        };
        let result = packet.and_then(|mut packet| {
            shared.requests.heard();
            let (kind, id) = (packet.u8_field()?, packet.u32_field()?);
            let unwanted = shared.requests.answer(&id, (kind, packet));
            // A caller that went away while its file was being opened leaves a handle behind.
            if let Some((kind::HANDLE, mut body)) = unwanted
                && let Ok(handle) = body.string_field()
            {
                let _ = closing.send(handle);
            }
            Ok(())
        });
        if let Err(error) = result {
            shared.requests.end(error);
            return;
        }
    }
}
