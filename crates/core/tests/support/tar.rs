//! Tar archives made block by block, as POSIX and other writers have them, for readers to be tried on.

/// One header and what follows it.
pub fn entry(name: &str, kind: u8, content: &[u8]) -> Vec<u8> {
    header(name.as_bytes(), kind, content.len() as u64, b"", content)
}

/// A link, soft or hard.
pub fn link(name: &str, kind: u8, target: &str) -> Vec<u8> {
    header(name.as_bytes(), kind, 0, target.as_bytes(), b"")
}

/// A header that tells this size, with content behind it that fills whole blocks.
pub fn header(name: &[u8], kind: u8, size: u64, target: &[u8], content: &[u8]) -> Vec<u8> {
    let mut block = vec![0; 512];
    block[..name.len()].copy_from_slice(name);
    block[100..108].copy_from_slice(b"0000640\0");
    block[124..136].copy_from_slice(format!("{size:011o}\0").as_bytes());
    block[136..148].copy_from_slice(b"14302056200\0");
    block[156] = kind;
    block[157..157 + target.len()].copy_from_slice(target);
    block[257..265].copy_from_slice(b"ustar\x0000");
    with_sum(&mut block);
    block.extend(content);
    block.resize(block.len().next_multiple_of(512), 0);
    block
}

/// Makes a header's sum right.
pub fn with_sum(block: &mut [u8]) {
    block[148..156].copy_from_slice(b"        ");
    let sum: u32 = block[..512].iter().map(|byte| u32::from(*byte)).sum();
    block[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
}

/// An extended header with these records.
pub fn records(kind: u8, records: &[(&str, &str)]) -> Vec<u8> {
    let record = |(key, value): &(&str, &str)| {
        let rest = format!(" {key}={value}\n");
        let digits = (1..6).find(|digits| (rest.len() + digits).to_string().len() == *digits).unwrap();
        format!("{}{rest}", rest.len() + digits)
    };
    entry("records", kind, records.iter().map(record).collect::<String>().as_bytes())
}

/// The archive, with its end.
pub fn archive(entries: &[Vec<u8>]) -> Vec<u8> {
    [entries.concat(), vec![0; 1024]].concat()
}
