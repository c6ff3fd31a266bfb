//! Numbers in the bytes of messages between processes of one program.

/// The next bytes of a message.
///
/// # Panics
/// If it has fewer: what is read is what the same program wrote.
pub fn take<'b>(bytes: &mut &'b [u8], count: usize) -> &'b [u8] {
    let (taken, rest) = bytes.split_at(count);
    *bytes = rest;
    taken
}

/// The number that four bytes are, the least significant first.
pub fn u32_of(bytes: &[u8]) -> u32 {
    bytes.try_into().map_or(0, u32::from_le_bytes)
}

/// The number that eight bytes are, the least significant first.
pub fn u64_of(bytes: &[u8]) -> u64 {
    bytes.try_into().map_or(0, u64::from_le_bytes)
}
