//! Messages of the plugin `pgoutput`, byte by byte.

/// Takes numbers off the front of a message, the greatest byte first.
pub(super) struct Message<'a>(pub(super) &'a [u8]);

/// A message is shorter than it should be.
pub(super) struct Torn;

impl<'a> Message<'a> {
    pub(super) fn take(&mut self, count: usize) -> Result<&'a [u8], Torn> {
        let (front, rest) = self.0.split_at_checked(count).ok_or(Torn)?;
        self.0 = rest;
        Ok(front)
    }

    pub(super) fn array<const N: usize>(&mut self) -> Result<[u8; N], Torn> {
        self.take(N)?.try_into().map_err(|_| Torn)
    }

    pub(super) fn u8(&mut self) -> Result<u8, Torn> {
        Ok(self.array::<1>()?[0])
    }

    pub(super) fn u16(&mut self) -> Result<u16, Torn> {
        self.array().map(u16::from_be_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, Torn> {
        self.array().map(u32::from_be_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, Torn> {
        self.array().map(u64::from_be_bytes)
    }

    /// Text up to a zero.
    pub(super) fn text(&mut self) -> Result<String, Torn> {
        let end = self.0.iter().position(|byte| *byte == 0).ok_or(Torn)?;
        let text = String::from_utf8_lossy(self.take(end)?).into_owned();
        self.take(1)?;
        Ok(text)
    }

    pub(super) fn counted(&mut self) -> Result<&'a [u8], Torn> {
        let length = self.u32()? as usize;
        self.take(length)
    }
}
