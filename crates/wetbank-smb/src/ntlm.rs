//! Signing in with NTLM, version 2 of its answers only ([MS-NLMP], sections 2.2 and 3.3.2).

use hmac::{Hmac, KeyInit, Mac};
use md4::{Digest, Md4};
use md5::Md5;

use crate::{
    Malformed,
    wire::{Fields, Writer, utf16},
};

const SIGNATURE: &[u8; 8] = b"NTLMSSP\0";
/// What we ask for (section 2.2.2.5): Unicode, the target's name, signing, NTLM with extended
/// session security and 128 bits. The key of the session is not exchanged anew: what it is used
/// for derives keys of its own.
const FLAGS: u32 = 0x0000_0001
    | 0x0000_0004
    | 0x0000_0010
    | 0x0000_0200
    | 0x0000_8000
    | 0x0008_0000
    | 0x0080_0000
    | 0x0200_0000
    | 0x2000_0000;
/// Any version that knows revision 15 of the protocol.
const VERSION: [u8; 8] = [10, 0, 0, 0, 0, 0, 0, 15];
/// Pairs that a target tells of itself (section 2.2.2.1).
const PAIR_END: u16 = 0;
const PAIR_FLAGS: u16 = 6;
const PAIR_TIME: u16 = 7;
const PAIR_TARGET: u16 = 9;
/// Where the code over all three messages stands in the third.
const CODE_AT: usize = 72;
const PAYLOAD_AT: usize = 88;

/// Who signs in.
#[derive(Clone, Copy)]
pub(crate) struct Credentials<'a> {
    pub domain: &'a str,
    pub user: &'a str,
    pub password: &'a str,
}

/// What differs from time to time.
#[derive(Clone, Copy)]
pub(crate) struct Moment {
    /// Tenths of microseconds since 1601, used if the server tells no time.
    pub time: u64,
    pub challenge: [u8; 8],
}

/// The first message.
pub(crate) fn hello() -> Vec<u8> {
    Writer::default().raw(SIGNATURE).u32(1).u32(FLAGS).zeros(16).raw(&VERSION).0
}

/// The third message as an answer to the server's, and the key of the session.
pub(crate) fn answer(
    credentials: Credentials<'_>,
    hello: &[u8],
    challenge: &[u8],
    server: &str,
    moment: Moment,
) -> Result<(Vec<u8>, [u8; 16]), Malformed> {
    if challenge.bytes_at(0, 8)? != SIGNATURE || challenge.u32_at(8)? != 2 {
        return Err(Malformed("no NTLM challenge"));
    }
    let flags = challenge.u32_at(20)? & FLAGS;
    let server_challenge: [u8; 8] = challenge.array_at(24)?;
    let told = challenge.bytes_at(challenge.u32_at(44)? as usize, challenge.u16_at(40)?.into())?;
    let (pairs, time) = target_pairs(told, server)?;
    let owner = one_way(credentials);
    let blob = Writer::default()
        .raw(&[1, 1, 0, 0, 0, 0, 0, 0])
        .u64(time.unwrap_or(moment.time))
        .raw(&moment.challenge)
        .zeros(4)
        .raw(&pairs)
        .zeros(4)
        .0;
    let proof = keyed(&owner, &[&server_challenge, &blob]);
    let key = keyed(&owner, &[&proof]);
    let response = [&proof[..], &blob].concat();
    let mut message = message(credentials, flags, &response);
    let code = keyed(&key, &[hello, challenge, &message]);
    message[CODE_AT..CODE_AT + 16].copy_from_slice(&code);
    Ok((message, key))
}

/// NTOWFv2.
fn one_way(credentials: Credentials<'_>) -> [u8; 16] {
    let password: [u8; 16] = Md4::digest(utf16(credentials.password)).into();
    keyed(&password, &[&utf16(&credentials.user.to_uppercase()), &utf16(credentials.domain)])
}

fn keyed(key: &[u8; 16], parts: &[&[u8]]) -> [u8; 16] {
    let mut code = Hmac::<Md5>::new_from_slice(key).expect("a key of any length");
    parts.iter().for_each(|part| code.update(part));
    code.finalize().into_bytes().into()
}

/// What the target told of itself, with what we add: that our message has a code, and whom we
/// meant to reach. And the target's time.
fn target_pairs(told: &[u8], server: &str) -> Result<(Vec<u8>, Option<u64>), Malformed> {
    let (mut at, mut flags, mut time) = (0, 0, None);
    let mut pairs = Writer::default();
    loop {
        let (kind, length) = (told.u16_at(at)?, told.u16_at(at + 2)?);
        let value = told.bytes_at(at + 4, length.into())?;
        at += 4 + value.len();
        match kind {
            PAIR_END => break,
            PAIR_FLAGS => flags = value.u32_at(0)?,
            PAIR_TARGET => {}
            _ => {
                if kind == PAIR_TIME {
                    time = Some(value.u64_at(0)?);
                }
                pairs = pairs.u16(kind).u16(length).raw(value);
            }
        }
    }
    let target = utf16(&format!("cifs/{server}"));
    let length = u16::try_from(target.len()).map_err(|_| Malformed("the server's name is too long"))?;
    let pairs = pairs.u16(PAIR_FLAGS).u16(4).u32(flags | 2).u16(PAIR_TARGET).u16(length).raw(&target);
    Ok((pairs.u32(u32::from(PAIR_END)).0, time))
}

fn message(credentials: Credentials<'_>, flags: u32, response: &[u8]) -> Vec<u8> {
    // The old answer is never given: 24 zeros stand for it.
    let parts: [&[u8]; 6] =
        [&[0; 24], response, &utf16(credentials.domain), &utf16(credentials.user), &utf16("WETBANK"), &[]];
    let mut head = Writer::default().raw(SIGNATURE).u32(3);
    let mut at = PAYLOAD_AT;
    for part in parts {
        // Names are bounded by the book, and the response by the server's own 64 KiB.
        let length = part.len().min(u16::MAX.into()) as u16;
        head = head.u16(length).u16(length).u32(at as u32);
        at += usize::from(length);
    }
    let head = head.u32(flags).raw(&VERSION).zeros(16);
    parts.iter().fold(head, |message, part| message.raw(part)).0
}

#[cfg(test)]
mod tests {
    use super::*;

    const EXAMPLE: Credentials<'static> = Credentials { domain: "Domain", user: "User", password: "Password" };
    const EXAMPLE_SERVER: [u8; 8] = [0x01, 0x23, 0x45, 0x67, 0x89, 0xab, 0xcd, 0xef];

    /// The example of [MS-NLMP], section 4.2.4.
    #[test]
    fn the_one_way_function_and_the_keys_are_those_of_the_specification() {
        let owner = one_way(EXAMPLE);
        assert_eq!(owner, 0x0c86_8a40_3bfd_7a93_a300_1ef2_2ef0_2e3f_u128.to_be_bytes());
        let pairs =
            Writer::default().u16(2).u16(12).raw(&utf16("Domain")).u16(1).u16(12).raw(&utf16("Server")).u32(0).0;
        let blob =
            Writer::default().raw(&[1, 1, 0, 0, 0, 0, 0, 0]).u64(0).raw(&[0xaa; 8]).zeros(4).raw(&pairs).zeros(4).0;
        let proof = keyed(&owner, &[&EXAMPLE_SERVER, &blob]);
        assert_eq!(proof, 0x68cd_0ab8_51e5_1c96_aabc_927b_ebef_6a1c_u128.to_be_bytes());
        assert_eq!(keyed(&owner, &[&proof]), 0x8de4_0cca_dbc1_4a82_f15c_b0ad_0de9_5ca3_u128.to_be_bytes());
    }

    fn challenge(pairs: &[u8]) -> Vec<u8> {
        let length = pairs.len() as u16;
        Writer::default()
            .raw(SIGNATURE)
            .u32(2)
            .zeros(8)
            .u32(FLAGS)
            .raw(&EXAMPLE_SERVER)
            .zeros(8)
            .u16(length)
            .u16(length)
            .u32(56)
            .raw(&VERSION)
            .raw(pairs)
            .0
    }

    #[test]
    fn the_answer_carries_the_servers_time_and_says_that_it_has_a_code() {
        let pairs = Writer::default().u16(PAIR_TIME).u16(8).u64(42).u32(0).0;
        let moment = Moment { time: 7, challenge: [0xaa; 8] };
        let (message, _) = answer(EXAMPLE, &hello(), &challenge(&pairs), "files", moment).expect("a fine challenge");
        let response = message.bytes_at(message.u32_at(24).expect("there") as usize, 32).expect("there");
        assert_eq!(response.u64_at(24), Ok(42), "the time stands behind proof and head");
        let told = utf16("cifs/files");
        assert!(message.windows(told.len()).any(|part| part == told));
        assert_ne!(message[CODE_AT..CODE_AT + 16], [0; 16]);
    }

    #[test]
    fn a_challenge_that_lies_about_its_lengths_is_refused() {
        let moment = Moment { time: 0, challenge: [0; 8] };
        let whole = challenge(&Writer::default().u16(PAIR_TIME).u16(8).u64(42).u32(0).0);
        for end in 0..whole.len() {
            assert!(answer(EXAMPLE, &hello(), &whole[..end], "files", moment).is_err(), "cut at {end}");
        }
        let mut far = whole;
        far[44..48].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(answer(EXAMPLE, &hello(), &far, "files", moment).is_err());
    }
}
