//! What somebody does to volumes who knows the format, but not the password.

use under_seal_core::formats::sealed::volume::CellLength;
use under_seal_core::formats::sealed::volume::header::CHECK_AT;

/// Makes a volume's checks right again after a change, as someone who knows the format but not the password can.
pub fn mend_checks(volume: &mut [u8]) {
    let check = blake3::hash(&volume[..CHECK_AT]);
    volume[CHECK_AT..4096].copy_from_slice(check.as_bytes());
    let (mut index, number) = (0_u32, volume[48..52].to_vec());
    let length = CellLength::new(u32::from_le_bytes(volume[76..80].try_into().unwrap())).unwrap_or_default();
    while (length.offset_of(index) as usize) < volume.len() {
        let start = length.offset_of(index) as usize;
        let end = volume.len().min(length.offset_of(index + 1) as usize);
        let mut hasher = blake3::Hasher::new();
        hasher.update(&volume[16..48]).update(&volume[11..12]).update(&number).update(&index.to_le_bytes());
        hasher.update(blake3::hash(&volume[start..end - 16]).as_bytes());
        let mut check = [0; 16];
        hasher.finalize_xof().fill(&mut check);
        volume[end - 16..end].copy_from_slice(&check);
        index += 1;
    }
}
