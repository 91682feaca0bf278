//! The limits of an evaluation.

use crate::value::Value;

/// Limits of one evaluation.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Steps: elements of loops and calls of functions of the user. What takes long for its size counts more.
    pub steps: u64,
    /// Bytes of one value, and of all values together that are made on the way to the result.
    pub bytes: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self { steps: 1_000_000, bytes: 64 << 20 }
    }
}

/// The part of the limits that is left.
#[derive(Debug)]
pub struct Budget {
    limits: Limits,
    steps: u64,
    bytes: u64,
}

/// Which limit was reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitExceeded {
    /// More steps than these.
    Steps(u64),
    /// More bytes than these.
    Bytes(u64),
}

impl Budget {
    /// The whole of the limits.
    pub fn new(limits: Limits) -> Self {
        Self { limits, steps: limits.steps, bytes: limits.bytes }
    }

    /// Takes steps.
    ///
    /// # Errors
    /// If so many are not left.
    #[inline]
    pub fn take_steps(&mut self, steps: u64) -> Result<(), LimitExceeded> {
        self.steps = self.steps.checked_sub(steps).ok_or(LimitExceeded::Steps(self.limits.steps))?;
        Ok(())
    }

    /// Takes the bytes of something that is about to be made.
    ///
    /// # Errors
    /// If so many are not left.
    #[inline]
    pub fn take_bytes(&mut self, bytes: u64) -> Result<(), LimitExceeded> {
        self.bytes = self.bytes.checked_sub(bytes).ok_or(LimitExceeded::Bytes(self.limits.bytes))?;
        Ok(())
    }

    /// Takes the bytes of a value.
    ///
    /// # Errors
    /// If so many are not left.
    pub fn take_value(&mut self, value: &Value) -> Result<(), LimitExceeded> {
        self.take_bytes(value.size_in_bytes(self.bytes.saturating_add(1)))
    }

    /// Takes the steps that it costs to go through all that is in a list or map: one for each 4 KiB. What is shared counts
    /// as often as it is there.
    ///
    /// # Errors
    /// If so many are not left, or the value has more bytes than any may have.
    pub fn take_all_of(&mut self, value: &Value) -> Result<(), LimitExceeded> {
        if !matches!(value, Value::List(_) | Value::Map(_) | Value::Optional(_)) {
            return Ok(());
        }
        let bytes = value.size_in_bytes(self.limits.bytes + 1);
        if bytes > self.limits.bytes {
            return Err(LimitExceeded::Bytes(self.limits.bytes));
        }
        self.take_steps(bytes >> 12)
    }

    /// Takes the steps that it costs to look at a value once: one for each KiB of a text, also of
    /// one that is read in place, or for 64 members.
    ///
    /// # Errors
    /// If so many are not left.
    #[inline]
    pub fn take_reading(&mut self, value: &Value) -> Result<(), LimitExceeded> {
        let steps = match value {
            Value::String(text) => text.len() >> 10,
            Value::Bytes(bytes) => bytes.len() >> 10,
            // How many members there are is not known of what is read in place.
            Value::List(list) => list.json().map_or_else(|| list.len() >> 6, |json| json.len() >> 10),
            Value::Map(map) => map.json().map_or_else(|| map.len() >> 6, |json| json.len() >> 10),
            _ => return Ok(()),
        };
        self.take_steps(steps as u64)
    }
}
