//! A server that says one thing, whatever it is asked: what real servers are when they lie.

use std::{
    io::{Read, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
        mpsc,
    },
    time::Duration,
};

/// Whoever is asked for waits no longer than this.
const PATIENCE: Duration = Duration::from_secs(10);

/// A server with one answer.
#[derive(Debug)]
pub struct Answering {
    /// Where it listens.
    pub address: SocketAddr,
    asked: mpsc::Receiver<String>,
    over: Arc<AtomicBool>,
}

impl Answering {
    /// Answers every request of HTTP with these bytes and closes.
    pub fn with(answer: impl Into<Vec<u8>>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let (tell, asked) = mpsc::channel();
        let (over, answer) = (Arc::<AtomicBool>::default(), answer.into());
        let is_over = over.clone();
        std::thread::spawn(move || {
            while let Ok((stream, _)) = listener.accept() {
                if is_over.load(Ordering::Relaxed) {
                    break;
                }
                let (tell, answer) = (tell.clone(), answer.clone());
                std::thread::spawn(move || answer_one(stream, &answer, &tell));
            }
        });
        Self { address, asked, over }
    }

    /// Its address for HTTP, without a slash at the end.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// The next request that came, head and body.
    pub fn asked(&self) -> String {
        self.asked.recv_timeout(PATIENCE).expect("a request")
    }

    /// How many requests came besides those that were asked for.
    pub fn more(&self) -> usize {
        self.asked.try_iter().count()
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        let _ = TcpStream::connect(self.address);
    }
}

fn answer_one(mut stream: TcpStream, answer: &[u8], tell: &mpsc::Sender<String>) -> std::io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    let mut request = Vec::new();
    let mut piece = [0; 16 << 10];
    while !is_whole(&request) {
        let read = stream.read(&mut piece)?;
        if read == 0 {
            break;
        }
        request.extend_from_slice(&piece[..read]);
    }
    let _ = tell.send(String::from_utf8_lossy(&request).into_owned());
    stream.write_all(answer)
}

/// Whether the head and as much of a body as it announces are there.
fn is_whole(request: &[u8]) -> bool {
    let text = String::from_utf8_lossy(request).to_ascii_lowercase();
    let Some((head, body)) = text.split_once("\r\n\r\n") else { return false };
    let length = head.lines().find_map(|line| line.strip_prefix("content-length: ")).map_or(0, |n| n.parse().unwrap());
    body.len() >= length
}

/// An answer of HTTP, after which the connection ends.
pub fn http_answer(status: &str, headers: &str, body: &str) -> String {
    let length = body.len();
    format!("HTTP/1.1 {status}\r\n{headers}content-length: {length}\r\nconnection: close\r\n\r\n{body}")
}
