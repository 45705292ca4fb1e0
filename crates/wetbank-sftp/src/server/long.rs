//! A name's line for people (section 7): what `ls -l` shows.

use std::time::{Duration, SystemTime};

use bytes::{BufMut, Bytes, BytesMut};
use jiff::Timestamp;

use crate::{FileType, Name};

/// What is older is told with its year.
const RECENT: Duration = Duration::from_secs(182 * 24 * 3_600);

/// The line of a name. A server that has one of its own keeps it.
pub(super) fn form(name: &Name, now: SystemTime) -> Bytes {
    if !name.long_form.is_empty() {
        return name.long_form.clone();
    }
    let attributes = &name.attributes;
    let kind = match attributes.file_type() {
        FileType::Directory => 'd',
        FileType::Link => 'l',
        FileType::File => '-',
        FileType::Other => '?',
    };
    let mode = attributes.permissions.unwrap_or(0);
    let right = |bit: u32, letter: char| if mode & bit != 0 { letter } else { '-' };
    let rights: String = (0..9).rev().map(|bit| right(1 << bit, ['x', 'w', 'r'][bit % 3])).collect();
    let modified = attributes.times.map_or(0, |(_, modified)| modified);
    let at = SystemTime::UNIX_EPOCH + Duration::from_secs(modified.into());
    let age = now.duration_since(at).unwrap_or(Duration::ZERO);
    let pattern = if age < RECENT { "%b %e %H:%M" } else { "%b %e  %Y" };
    let time = Timestamp::from_second(modified.into()).unwrap_or(Timestamp::UNIX_EPOCH).strftime(pattern);
    let size = attributes.size.unwrap_or(0);
    let head = format!("{kind}{rights}    1 files    files    {size:>12} {time} ");
    let mut line = BytesMut::with_capacity(head.len() + name.name.len());
    line.put_slice(head.as_bytes());
    line.put_slice(&name.name);
    line.freeze()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Attributes;

    #[test]
    fn a_line_is_as_ls_has_it() {
        let attributes =
            Attributes { size: Some(38_600), permissions: Some(0o100_640), times: Some((0, 1_773_468_000)) };
        let name = Name { name: Bytes::from_static(b"assay-0412.csv"), long_form: Bytes::new(), attributes };
        let at = |seconds| SystemTime::UNIX_EPOCH + Duration::from_secs(seconds);
        let line = |now| String::from_utf8(form(&name, now).to_vec()).unwrap();
        assert_eq!(
            line(at(1_773_500_000)),
            "-rw-r-----    1 files    files           38600 Mar 14 06:00 assay-0412.csv"
        );
        assert!(line(at(1_900_000_000)).contains(" Mar 14  2026 "));
    }
}
