//! Another system with a web server.

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    sync::{Arc, Mutex},
};

/// A head and a body.
type Asked = (String, Vec<u8>);

/// A web server that answers what it is told to, and keeps what it was asked.
pub struct Desk {
    pub port: u16,
    asked: Arc<Mutex<Vec<Asked>>>,
}

impl Desk {
    /// Gives these answers, one after the other, and then none.
    pub fn open(answers: Vec<&'static str>) -> Self {
        Self::with(answers.into_iter())
    }

    /// Gives the same answer for ever.
    pub fn always(answer: &'static str) -> Self {
        Self::with(std::iter::repeat(answer))
    }

    fn with(answers: impl Iterator<Item = &'static str> + Send + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let asked: Arc<Mutex<Vec<Asked>>> = Arc::default();
        let kept = asked.clone();
        std::thread::spawn(move || {
            for answer in answers {
                let Ok((stream, _)) = listener.accept() else { return };
                // One that asks and goes away before it has an answer was not heard.
                if let Some(one) = answered(stream, answer) {
                    kept.lock().unwrap().push(one);
                }
            }
        });
        Self { port, asked }
    }

    pub fn asked(&self) -> Vec<Asked> {
        self.asked.lock().unwrap().clone()
    }
}

fn answered(mut stream: TcpStream, answer: &str) -> Option<Asked> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let (mut head, mut length) = (String::new(), 0);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        if let Some(size) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = size.trim().parse().ok()?;
        }
        if line.trim().is_empty() {
            break;
        }
        head += &line;
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    let (status, text) = answer.split_once('|').unwrap_or((answer, ""));
    let more = if status.starts_with("302") { "Location: http://127.0.0.1:1/elsewhere\r\n" } else { "" };
    let _ =
        write!(stream, "HTTP/1.1 {status}\r\n{more}Content-Length: {}\r\nConnection: close\r\n\r\n{text}", text.len());
    Some((head, body))
}
