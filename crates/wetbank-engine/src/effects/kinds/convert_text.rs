//! Writing a text in another encoding, or with other ends of lines.

use std::io::{Read, Write};

use encoding_rs::{Decoder, DecoderResult, Encoder, EncoderResult};
use wetbank_core::step::{self, LineEnds};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::effects::results::Coming;

/// Bytes read, and written, at once.
const CHUNK: usize = 64 << 10;

impl Does for step::ConvertText {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let (from, to, lines) = (self.from, self.to, self.lines);
        at.through_work(&self.name, Coming::alike(), attempt, move |mut input, output| {
            let mut reading = Reading { decoder: from.new_decoder_with_bom_removal(), lines, line: 1, after_cr: false };
            let mut writing = Writing { encoder: to.new_encoder(), output, buffer: vec![0; CHUNK] };
            let mut chunk = vec![0; CHUNK];
            loop {
                let read = input.read(&mut chunk)?;
                reading.pass_on(&chunk[..read], read == 0, &mut writing)?;
                if read == 0 {
                    return Ok::<_, FailureKind>(Some(format!("{} lines", reading.line - 1)));
                }
            }
        })
        .await
    }
}

/// A text being read.
struct Reading {
    decoder: Decoder,
    lines: LineEnds,
    /// The line that is being read, counted from 1.
    line: u64,
    /// The last letter was a CR, which is kept back until it is known what follows it.
    after_cr: bool,
}

/// The same text being written.
struct Writing<'a> {
    encoder: Encoder,
    output: &'a mut dyn Write,
    buffer: Vec<u8>,
}

fn unfit(line: u64, why: &str) -> FailureKind {
    FailureKind::Lasting {
        code: "unfit".to_owned(),
        why: format!("line {line} {why}"),
        remedy: "Correct the file, or the encodings in the step; then release, or dismiss it.".to_owned(),
    }
}

impl Reading {
    fn pass_on(&mut self, mut bytes: &[u8], is_last: bool, writing: &mut Writing<'_>) -> Result<(), FailureKind> {
        loop {
            let mut text = String::with_capacity(CHUNK);
            let (result, read) = self.decoder.decode_to_string_without_replacement(bytes, &mut text, is_last);
            bytes = &bytes[read..];
            let ended = self.ended(&text, is_last && result == DecoderResult::InputEmpty);
            writing.put(&ended, self.line)?;
            self.line += text.bytes().filter(|byte| *byte == b'\n').count() as u64;
            match result {
                DecoderResult::InputEmpty => break,
                DecoderResult::OutputFull => {}
                DecoderResult::Malformed(..) => {
                    let name = self.decoder.encoding().name();
                    return Err(unfit(self.line, &format!("is no text in {name}")));
                }
            }
        }
        if is_last { writing.end(self.line) } else { Ok(()) }
    }

    /// The text with its lines ending as they are to.
    fn ended(&mut self, text: &str, is_last: bool) -> String {
        if self.lines == LineEnds::AsTheyDo {
            return text.to_owned();
        }
        let mut ended = String::with_capacity(text.len() + text.len() / 16);
        for letter in text.chars() {
            match (letter, self.after_cr) {
                ('\n', _) => ended.push_str(if self.lines == LineEnds::Lf { "\n" } else { "\r\n" }),
                (_, true) => ended.push('\r'),
                _ => {}
            }
            self.after_cr = letter == '\r';
            if letter != '\r' && letter != '\n' {
                ended.push(letter);
            }
        }
        // A CR by itself ends no line; at the very end nothing follows it.
        if is_last && std::mem::take(&mut self.after_cr) {
            ended.push('\r');
        }
        ended
    }
}

impl Writing<'_> {
    fn put(&mut self, text: &str, line: u64) -> Result<(), FailureKind> {
        self.encode(text, line, false)
    }

    fn end(&mut self, line: u64) -> Result<(), FailureKind> {
        self.encode("", line, true)
    }

    fn encode(&mut self, mut text: &str, first: u64, is_last: bool) -> Result<(), FailureKind> {
        let whole = text;
        loop {
            let (result, read, written) =
                self.encoder.encode_from_utf8_without_replacement(text, &mut self.buffer, is_last);
            self.output.write_all(&self.buffer[..written])?;
            text = &text[read..];
            match result {
                EncoderResult::InputEmpty => return Ok(()),
                EncoderResult::OutputFull => {}
                EncoderResult::Unmappable(letter) => {
                    let before = &whole[..whole.len() - text.len()];
                    let line = first + before.bytes().filter(|byte| *byte == b'\n').count() as u64;
                    let (name, code) = (self.encoder.encoding().name(), u32::from(letter));
                    return Err(unfit(line, &format!("has \"{letter}\" (U+{code:04X}), which {name} cannot hold")));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use encoding_rs::{Encoding, UTF_8, UTF_16LE, WINDOWS_1252};

    use super::*;

    /// What becomes of a text that is read in pieces of so many bytes.
    fn converted(
        text: &[u8],
        pieces: usize,
        (from, to): (&'static Encoding, &'static Encoding),
        lines: LineEnds,
    ) -> Result<Vec<u8>, String> {
        let mut made = Vec::new();
        let mut reading = Reading { decoder: from.new_decoder_with_bom_removal(), lines, line: 1, after_cr: false };
        let mut writing = Writing { encoder: to.new_encoder(), output: &mut made, buffer: vec![0; 64] };
        let result = text
            .chunks(pieces)
            .try_for_each(|piece| reading.pass_on(piece, false, &mut writing))
            .and_then(|()| reading.pass_on(b"", true, &mut writing));
        match result {
            Ok(()) => Ok(made),
            Err(kind) => Err(kind.said()),
        }
    }

    #[test]
    fn a_text_comes_out_the_same_however_it_was_cut() {
        let text = "Åse\r\nLunde\n\rö\r\r\n€\r";
        for pieces in [1, 2, 3, 5, 100] {
            let made = |from, to, lines| converted(text.as_bytes(), pieces, (from, to), lines).unwrap();
            assert_eq!(made(UTF_8, UTF_8, LineEnds::Lf), "Åse\nLunde\n\rö\r\n€\r".as_bytes(), "{pieces}");
            assert_eq!(made(UTF_8, UTF_8, LineEnds::CrLf), "Åse\r\nLunde\r\n\rö\r\r\n€\r".as_bytes(), "{pieces}");
            assert_eq!(
                made(UTF_8, WINDOWS_1252, LineEnds::AsTheyDo),
                b"\xC5se\r\nLunde\n\r\xF6\r\r\n\x80\r",
                "{pieces}"
            );
        }
        let wide: Vec<u8> = "\u{feff}Åse\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(converted(&wide, 3, (UTF_16LE, UTF_8), LineEnds::AsTheyDo).unwrap(), "Åse\n".as_bytes());
        assert!(converted(b"", 1, (UTF_8, WINDOWS_1252), LineEnds::Lf).unwrap().is_empty());
    }

    #[test]
    fn what_is_no_such_text_or_cannot_be_held_is_told_with_its_line() {
        let said = converted("a\nb\nθ\n".as_bytes(), 2, (UTF_8, WINDOWS_1252), LineEnds::CrLf).unwrap_err();
        assert!(said.contains("line 3 has \"θ\" (U+03B8)") && said.contains("windows-1252"), "{said}");
        let said = converted(b"a\n\xFF\xFE\n", 100, (UTF_8, WINDOWS_1252), LineEnds::AsTheyDo).unwrap_err();
        assert!(said.contains("line 2 is no text in UTF-8"), "{said}");
        let said = converted(b"a\xC3", 100, (UTF_8, UTF_8), LineEnds::Lf).unwrap_err();
        assert!(said.contains("line 1 is no text"), "{said}");
    }
}
