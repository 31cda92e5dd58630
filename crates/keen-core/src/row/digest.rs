//! Row digests: 128 bits over a canonical row.
//!
//! Which function is used is a property of one comparison; both sides always
//! use the same one, and results name it.

use std::fmt;

use md5::Digest as _;

/// 128 bits that stand for one canonical row. Compared, added up, never ordered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct Digest(pub u128);

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:032x}", self.0)
    }
}

/// The function that makes a [`Digest`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum DigestFunction {
    /// XXH3, 128 bits, seed 0, read as a big-endian number: about 20 ns a row, not cryptographic.
    #[default]
    Xxh3,
    /// MD5 (RFC 1321), which every server can compute in SQL; not collision-proof against an attacker.
    Md5,
    /// The first 16 bytes of BLAKE3: cryptographic, for nodes that somebody may have tampered with.
    Blake3,
}

impl DigestFunction {
    /// Every function, the default first.
    pub const ALL: [Self; 3] = [Self::Xxh3, Self::Md5, Self::Blake3];

    /// The name used in results and settings.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Xxh3 => "xxh3",
            Self::Md5 => "md5",
            Self::Blake3 => "blake3",
        }
    }

    /// The digest of one canonical row.
    #[must_use]
    #[inline]
    pub fn digest(self, row: &[u8]) -> Digest {
        match self {
            Self::Xxh3 => Digest(xxhash_rust::xxh3::xxh3_128(row)),
            Self::Md5 => Digest(u128::from_be_bytes(md5::Md5::digest(row).into())),
            Self::Blake3 => {
                let mut bytes = [0; 16];
                bytes.copy_from_slice(&blake3::hash(row).as_bytes()[..16]);
                Digest(u128::from_be_bytes(bytes))
            }
        }
    }
}
