//! Memory for secrets: wiped when it is let go, and kept from being swapped out to a disk where the system allows that.
//!
//! Pages stay locked until the process ends: another secret may lie on the same one, and a lock does not count how often it
//! was asked for. A process has few secrets.

pub mod password;

pub use password::{Credentials, KeyFile, Password, PasswordError};

use std::ops::{Deref, DerefMut};
use subtle::ConstantTimeEq as _;
use zeroize::Zeroizing;

/// Secret bytes that stay where they are, however their owner moves: no copy of them is left on the stack.
pub struct SecretBytes<const N: usize>(Box<Zeroizing<[u8; N]>>);

impl<const N: usize> SecretBytes<N> {
    /// Room for a secret, all zeros.
    pub fn zeroed() -> Self {
        let room = Self(Box::new(Zeroizing::new([0; N])));
        keep_in_memory(room.as_slice());
        room
    }

    /// A copy of a secret.
    pub fn copied(secret: &[u8; N]) -> Self {
        let mut copy = Self::zeroed();
        copy.copy_from_slice(secret);
        copy
    }
}

impl<const N: usize> Deref for SecretBytes<N> {
    type Target = [u8; N];

    fn deref(&self) -> &[u8; N] {
        &self.0
    }
}

impl<const N: usize> DerefMut for SecretBytes<N> {
    fn deref_mut(&mut self) -> &mut [u8; N] {
        &mut self.0
    }
}

impl<const N: usize> PartialEq for SecretBytes<N> {
    fn eq(&self, other: &Self) -> bool {
        self.as_slice().ct_eq(other.as_slice()).into()
    }
}

impl<const N: usize> Eq for SecretBytes<N> {}

impl<const N: usize> Clone for SecretBytes<N> {
    fn clone(&self) -> Self {
        Self::copied(self)
    }
}

/// Asks the system to keep these bytes out of its swap. Where it does not allow that, or no more of it, they are as any
/// others.
pub fn keep_in_memory(secret: &[u8]) {
    if let Ok(locked) = region::lock(secret.as_ptr(), secret.len()) {
        std::mem::forget(locked);
    }
}

#[cfg(test)]
mod tests {
    /// Only Linux tells what is locked.
    #[cfg(target_os = "linux")]
    mod on_linux {
        use super::super::*;
        use rustix::process::{Resource, getrlimit};

        /// Whether the mapping that this byte is in is locked (proc_pid_smaps(5)).
        fn is_locked(byte: *const u8) -> bool {
            let smaps = std::fs::read_to_string("/proc/self/smaps").unwrap();
            let mut inside = false;
            for line in smaps.lines() {
                let range = line.split(' ').next().and_then(|range| range.split_once('-'));
                let bounds = range.and_then(|(from, to)| Some((number(from)?, number(to)?)));
                if let Some((from, to)) = bounds {
                    inside = (from..to).contains(&byte.addr());
                } else if let Some(flags) = line.strip_prefix("VmFlags:").filter(|_| inside) {
                    return flags.split(' ').any(|flag| flag == "lo");
                }
            }
            panic!("no mapping holds it");
        }

        fn number(hexadecimal: &str) -> Option<usize> {
            usize::from_str_radix(hexadecimal, 16).ok()
        }

        #[test]
        fn a_secret_is_not_swapped_out() {
            if getrlimit(Resource::Memlock).current.is_some_and(|bytes| bytes < 64 * 1024) {
                eprintln!("passed over: this system locks no memory");
                return;
            }
            let key = SecretBytes::<32>::zeroed();
            assert!(is_locked(key.as_ptr()) && is_locked(key.clone().as_ptr()));
        }
    }
}
