//! Drops written entries one by one.

/// Written entries that are dropped one by one: dropping all at once would take longer than a response.
pub(super) struct DropQueue<T>(Vec<Vec<T>>);

impl<T> DropQueue<T> {
    pub(super) fn new() -> Self {
        Self(Vec::new())
    }

    /// These are not needed any more.
    pub(super) fn take(&mut self, pages: impl IntoIterator<Item = Vec<T>>) {
        self.0.extend(pages.into_iter().filter(|batch| !batch.is_empty()));
    }

    /// Gives one up, if there is any: as many go as are taken in.
    pub(super) fn drop_one(&mut self) {
        let Some(batch) = self.0.last_mut() else { return };
        batch.pop();
        if batch.is_empty() {
            self.0.pop();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::rc::Rc;

    #[test]
    fn each_call_gives_one_up_whatever_page_it_is_on() {
        let lot = Rc::new("L-2043");
        let mut spent = DropQueue::new();
        for _ in 0..100 {
            spent.take([vec![Rc::clone(&lot); 3], vec![], vec![Rc::clone(&lot)]]);
            (0..4).for_each(|_| spent.drop_one());
            assert_eq!(Rc::strong_count(&lot), 1);
        }
        spent.drop_one();
    }
}
