//! Messages of the plugin `pgoutput`, byte by byte.

/// Takes numbers off the front of a message, the greatest byte first.
pub(super) struct MessageBytes<'a>(pub(super) &'a [u8]);

/// A message is shorter than it should be.
pub(super) struct Truncated;

impl<'a> MessageBytes<'a> {
    pub(super) fn take(&mut self, count: usize) -> Result<&'a [u8], Truncated> {
        let (front, rest) = self.0.split_at_checked(count).ok_or(Truncated)?;
        self.0 = rest;
        Ok(front)
    }

    pub(super) fn array<const N: usize>(&mut self) -> Result<[u8; N], Truncated> {
        self.take(N)?.try_into().map_err(|_| Truncated)
    }

    pub(super) fn u8(&mut self) -> Result<u8, Truncated> {
        Ok(self.array::<1>()?[0])
    }

    pub(super) fn u16(&mut self) -> Result<u16, Truncated> {
        self.array().map(u16::from_be_bytes)
    }

    pub(super) fn u32(&mut self) -> Result<u32, Truncated> {
        self.array().map(u32::from_be_bytes)
    }

    pub(super) fn u64(&mut self) -> Result<u64, Truncated> {
        self.array().map(u64::from_be_bytes)
    }

    /// Text up to a zero.
    pub(super) fn text(&mut self) -> Result<String, Truncated> {
        let end = self.0.iter().position(|byte| *byte == 0).ok_or(Truncated)?;
        let text = String::from_utf8_lossy(self.take(end)?).into_owned();
        self.take(1)?;
        Ok(text)
    }

    pub(super) fn counted(&mut self) -> Result<&'a [u8], Truncated> {
        let length = self.u32()? as usize;
        self.take(length)
    }
}
