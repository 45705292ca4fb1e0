//! Names of folders as IMAP writes them: modified UTF-7 (RFC 3501, section 5.1.3).

const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+,";

/// A name as the server writes it.
pub(super) fn encode(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    let mut wide: Vec<u16> = Vec::new();
    for letter in name.chars() {
        let plain = matches!(letter, ' '..='~');
        if plain && !wide.is_empty() {
            shift(&mut out, &std::mem::take(&mut wide));
        }
        match letter {
            '&' => out.push_str("&-"),
            letter if plain => out.push(letter),
            letter => wide.extend(letter.encode_utf16(&mut [0; 2]).iter()),
        }
    }
    if !wide.is_empty() {
        shift(&mut out, &wide);
    }
    out
}

fn shift(out: &mut String, wide: &[u16]) {
    out.push('&');
    let (mut bits, mut count) = (0u32, 0);
    let bytes = wide.iter().flat_map(|unit| unit.to_be_bytes());
    for byte in bytes {
        bits = bits << 8 | u32::from(byte);
        count += 8;
        while count >= 6 {
            count -= 6;
            out.push(DIGITS[(bits >> count & 63) as usize] as char);
        }
    }
    if count > 0 {
        out.push(DIGITS[(bits << (6 - count) & 63) as usize] as char);
    }
    out.push('-');
}

/// The name that a server wrote; as it stands if it is not written as it should be.
pub(super) fn decode(name: &str) -> String {
    decoded(name).unwrap_or_else(|| name.to_owned())
}

fn decoded(name: &str) -> Option<String> {
    let mut out = String::with_capacity(name.len());
    let mut rest = name;
    while let Some((plain, shifted)) = rest.split_once('&') {
        out.push_str(plain);
        let (digits, after) = shifted.split_once('-')?;
        if digits.is_empty() {
            out.push('&');
        } else {
            let (mut bits, mut count, mut bytes) = (0u32, 0, Vec::new());
            for digit in digits.bytes() {
                let value = DIGITS.iter().position(|known| *known == digit)?;
                bits = (bits << 6 | u32::try_from(value).ok()?) & 0xf_ffff;
                count += 6;
                if count >= 8 {
                    count -= 8;
                    bytes.push((bits >> count & 255) as u8);
                }
            }
            let wide: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
            out.push_str(&String::from_utf16(&wide).ok()?);
        }
        rest = after;
    }
    out.push_str(rest);
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_written_as_the_standard_shows_and_read_back() {
        for (plain, written) in [
            ("Done", "Done"),
            ("Entwürfe", "Entw&APw-rfe"),
            ("R&D", "R&-D"),
            ("台北", "&U,BTFw-"),
            ("~peter/mail/台北/日本語", "~peter/mail/&U,BTFw-/&ZeVnLIqe-"),
            ("🐦", "&2D3cJg-"),
        ] {
            assert_eq!(encode(plain), written);
            assert_eq!(decode(written), plain);
        }
    }

    #[test]
    fn what_is_written_wrongly_is_taken_as_it_stands() {
        for wrong in ["a&b", "&%%-", "&2D0-"] {
            assert_eq!(decode(wrong), wrong);
        }
    }
}
