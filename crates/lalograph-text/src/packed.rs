//! Short strings as single numbers, which are compared and hashed without looking into memory.

/// The longest string that is packed, in bytes.
pub(crate) const LONGEST: usize = 15;

/// A string of at most 15 bytes as a number: its bytes from the lowest up, and its length in the highest byte. Different strings
/// give different numbers.
#[inline]
pub(crate) fn pack(bytes: &[u8]) -> Option<u128> {
    let length = bytes.len();
    // Overlapping reads of fixed size instead of a loop over the bytes.
    let value = if let (Some(first), Some(last)) = (bytes.first_chunk::<8>(), bytes.last_chunk::<8>()) {
        if length > LONGEST {
            return None;
        }
        let last = u128::from(u64::from_le_bytes(*last)) << (8 * (length - 8));
        u128::from(u64::from_le_bytes(*first)) | last
    } else if let (Some(first), Some(last)) = (bytes.first_chunk::<4>(), bytes.last_chunk::<4>()) {
        let last = u64::from(u32::from_le_bytes(*last)) << (8 * (length - 4));
        u128::from(u64::from(u32::from_le_bytes(*first)) | last)
    } else if let (Some(first), Some(last)) = (bytes.first(), bytes.last()) {
        let (middle, last) =
            (u64::from(bytes[length / 2]) << (8 * (length / 2)), u64::from(*last) << (8 * (length - 1)));
        u128::from(u64::from(*first) | middle | last)
    } else {
        0
    };
    Some(value | (length as u128) << (8 * LONGEST))
}

/// The string that was packed.
pub(crate) fn unpack(packed: u128) -> Box<str> {
    let bytes = packed.to_le_bytes();
    let length = usize::from(bytes[LONGEST]).min(LONGEST);
    // What was packed was a string.
    String::from_utf8_lossy(&bytes[..length]).into()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{LONGEST, pack, unpack};

    proptest! {
        #[test]
        fn strings_come_back_and_differ_when_they_differ(a in "[a-b\u{0}\u{e9}]{0,17}", b in "[a-b\u{0}\u{e9}]{0,17}") {
            match pack(a.as_bytes()) {
                Some(packed) => prop_assert_eq!(&*unpack(packed), a.as_str()),
                None => prop_assert!(a.len() > LONGEST),
            }
            if let (Some(x), Some(y)) = (pack(a.as_bytes()), pack(b.as_bytes())) {
                prop_assert_eq!(x == y, a == b);
            }
        }
    }
}
