//! Two copies of one certificate made one. What one of them knows is never forgotten: an older copy must not undo a
//! revocation.

use pgp::{
    composed::SignedPublicKey,
    packet::{Packet, PacketParser, Signature, SignatureType},
    types::KeyDetails as _,
};

/// Adds what another copy knows besides: users, subkeys, signatures, revocations.
pub(crate) fn merge(into: &mut SignedPublicKey, other: SignedPublicKey) {
    add(&mut into.details.revocation_signatures, other.details.revocation_signatures);
    add(&mut into.details.direct_signatures, other.details.direct_signatures);
    for user in other.details.users {
        match into.details.users.iter_mut().find(|known| known.id.id() == user.id.id()) {
            Some(known) => add(&mut known.signatures, user.signatures),
            None => into.details.users.push(user),
        }
    }
    for subkey in other.public_subkeys {
        let print = subkey.key.fingerprint();
        match into.public_subkeys.iter_mut().find(|known| known.key.fingerprint() == print) {
            Some(known) => add(&mut known.signatures, subkey.signatures),
            None => into.public_subkeys.push(subkey),
        }
    }
}

fn add(known: &mut Vec<Signature>, more: Vec<Signature>) {
    for signature in more {
        if !known.contains(&signature) {
            known.push(signature);
        }
    }
}

/// The revocations of a primary key that a file holds by themselves, as GnuPG writes them beside a new key.
pub(crate) fn revocations(export: &[u8]) -> Vec<Signature> {
    use std::io::Read;
    let mut plain = Vec::new();
    let armour = export.windows(15).position(|bytes| bytes == b"-----BEGIN PGP ");
    let packets = match armour {
        Some(at) if pgp::armor::Dearmor::new(&export[at..]).read_to_end(&mut plain).is_ok() => plain.as_slice(),
        _ => export,
    };
    let signatures = PacketParser::new(packets).map_while(Result::ok).filter_map(|packet| match packet {
        Packet::Signature(signature) => Some(signature),
        _ => None,
    });
    signatures.filter(|signature| signature.typ() == Some(SignatureType::KeyRevocation)).collect()
}
