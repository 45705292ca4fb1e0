//! Stands between a client and a server and cuts the connection after a request, before its answer.

use std::{
    io::{Read, Write},
    net::{Shutdown, SocketAddr, TcpListener, TcpStream},
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicUsize, Ordering::SeqCst},
    },
    thread,
};

/// A proxy before a server. A request is what a client says until the server says something; whatever the
/// protocol, encrypted or not. It is forwarded whole; when the server begins to answer it, the connection
/// is gone.
#[derive(Debug)]
pub struct Cutter {
    /// Where it listens.
    pub address: SocketAddr,
    state: Arc<State>,
}

#[derive(Debug, Default)]
struct State {
    /// Requests since it was armed.
    requests: AtomicUsize,
    /// The request that gets no answer; zero for none.
    cut_at: AtomicUsize,
    cuts: AtomicUsize,
    /// How often it was armed.
    rounds: AtomicUsize,
}

/// What both directions of a connection know.
struct Connection {
    state: Arc<State>,
    /// The round in which the client has said something that the server has not answered. What is said in a
    /// later round is another request: a farewell to a file may still be unanswered when the line is armed.
    asked: Mutex<Option<usize>>,
    doomed: AtomicBool,
    client: TcpStream,
    server: TcpStream,
}

impl Cutter {
    /// Begins to listen before a server.
    pub fn before(server: SocketAddr) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (address, state) = (listener.local_addr().unwrap(), Arc::new(State::default()));
        let shared = state.clone();
        // It ends with the process: a test lets it go with everything else.
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(server) = TcpStream::connect(server) else { continue };
                let _ = (client.set_nodelay(true), server.set_nodelay(true));
                let (doomed, asked) = (AtomicBool::new(false), Mutex::new(None));
                let connection = Arc::new(Connection { state: shared.clone(), asked, doomed, client, server });
                let other = connection.clone();
                thread::spawn(move || connection.asks());
                thread::spawn(move || other.answers());
            }
        });
        Self { address, state }
    }

    /// The `at`th request from now on gets no answer; with zero all get one.
    pub fn cut_at(&self, at: usize) {
        self.state.requests.store(0, SeqCst);
        self.state.cuts.store(0, SeqCst);
        self.state.cut_at.store(at, SeqCst);
        self.state.rounds.fetch_add(1, SeqCst);
    }

    /// How many requests were made since then.
    pub fn requests(&self) -> usize {
        self.state.requests.load(SeqCst)
    }

    /// Whether a connection was cut since then.
    pub fn has_cut(&self) -> bool {
        self.state.cuts.load(SeqCst) > 0
    }
}

impl Connection {
    fn asks(&self) {
        let mut buffer = vec![0; 256 << 10];
        while let Ok(read @ 1..) = (&self.client).read(&mut buffer) {
            {
                let mut asked = self.asked.lock().unwrap();
                let round = self.state.rounds.load(SeqCst);
                if asked.replace(round) != Some(round) {
                    let number = self.state.requests.fetch_add(1, SeqCst) + 1;
                    if number == self.state.cut_at.load(SeqCst) {
                        self.doomed.store(true, SeqCst);
                    }
                }
            }
            if (&self.server).write_all(&buffer[..read]).is_err() {
                break;
            }
        }
        let _ = self.server.shutdown(Shutdown::Write);
    }

    fn answers(&self) {
        let mut buffer = vec![0; 256 << 10];
        while let Ok(read @ 1..) = (&self.server).read(&mut buffer) {
            if self.doomed.load(SeqCst) {
                self.state.cuts.fetch_add(1, SeqCst);
                let _ = self.server.shutdown(Shutdown::Both);
                let _ = self.client.shutdown(Shutdown::Both);
                return;
            }
            *self.asked.lock().unwrap() = None;
            if (&self.client).write_all(&buffer[..read]).is_err() {
                break;
            }
        }
        let _ = self.client.shutdown(Shutdown::Write);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_chosen_request_reaches_the_server_and_its_answer_nobody() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let cutter = Cutter::before(listener.local_addr().unwrap());
        let server = thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let (mut heard, mut buffer) = (Vec::new(), [0; 16]);
            while let Ok(read @ 1..) = stream.read(&mut buffer) {
                heard.extend_from_slice(&buffer[..read]);
                let _ = stream.write_all(b"yes");
            }
            heard
        });
        cutter.cut_at(2);
        let mut client = TcpStream::connect(cutter.address).unwrap();
        let mut answer = [0; 3];
        client.write_all(b"one").unwrap();
        client.read_exact(&mut answer).unwrap();
        client.write_all(b"two").unwrap();
        assert!(client.read_exact(&mut answer).is_err());
        assert!(cutter.has_cut() && cutter.requests() == 2);
        assert_eq!(server.join().unwrap(), b"onetwo");
    }

    #[test]
    fn what_is_said_after_it_was_armed_is_a_request_though_an_earlier_one_waits_for_its_answer() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let cutter = Cutter::before(listener.local_addr().unwrap());
        let mut client = TcpStream::connect(cutter.address).unwrap();
        let (mut server, _) = listener.accept().unwrap();
        client.write_all(b"one").unwrap();
        server.read_exact(&mut [0; 3]).unwrap();
        cutter.cut_at(1);
        client.write_all(b"two").unwrap();
        server.read_exact(&mut [0; 3]).unwrap();
        server.write_all(b"yes").unwrap();
        assert!(client.read_exact(&mut [0; 3]).is_err());
        assert!(cutter.has_cut() && cutter.requests() == 1);
    }
}
