//! A thread that writes pages while their author goes on. It takes only time that nobody else wants, since the
//! servers may be on the same machine; so nobody may have to wait for it: an author who is too far ahead writes the
//! oldest page himself, and all the others, too, where the thread turns out to get no time at all.

use std::collections::VecDeque;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

/// The batches that may wait to be written.
const MAX_QUEUED_BATCHES: usize = 4;

/// A thread that keeps the author waiting for longer than this gets no time: the machine is busy.
const PROGRESS_TIMEOUT: Duration = Duration::from_millis(50);

/// One that got nothing written while its author wrote so many pages gets none either: there is one processor.
const MAX_ASSISTS: usize = 3;

/// The destination of batches.
pub(super) trait BatchSink: Default + Send + 'static {
    /// The entries that are written together.
    type Batch: Send;

    /// Writes a page.
    fn write(&mut self, batch: &Self::Batch);

    /// Notes that the program itself failed at a page.
    fn on_panic(&mut self);
}

/// Writes pages in the order in which they are put.
pub(super) struct Writer<W: BatchSink> {
    desk: Arc<Shared<W>>,
    thread: Thread,
    /// How many pages its author wrote since the thread wrote one.
    assists: usize,
}

/// The state shared by the run and the thread.
struct Shared<W: BatchSink> {
    sinks: Mutex<W>,
    pile: Mutex<Queue<W::Batch>>,
    more: Condvar,
}

struct Queue<P> {
    waiting: VecDeque<P>,
    /// Pages that are written, for their author to give up.
    written: Vec<P>,
    /// Whether the thread wrote one lately.
    works: bool,
    closed: bool,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Thread {
    /// There is nothing to write yet.
    None,
    Runs,
    /// It got no time, or cannot be had.
    Dismissed,
}

impl<W: BatchSink> Writer<W> {
    /// One that writes into `sinks`. No thread is started before there is a page.
    pub(super) fn new(sinks: W) -> Self {
        let pile = Queue { waiting: VecDeque::new(), written: Vec::new(), works: false, closed: false };
        let desk = Shared { sinks: Mutex::new(sinks), pile: Mutex::new(pile), more: Condvar::new() };
        Self { desk: Arc::new(desk), thread: Thread::None, assists: 0 }
    }

    /// Takes a page, to be written soon, and gives back those that were. Their author gave them their memory and
    /// shall take it back: two threads that free each other's memory wait for each other at every piece.
    pub(super) fn put(&mut self, batch: W::Batch) -> Vec<W::Batch> {
        if self.thread == Thread::None {
            self.thread = self.start();
        }
        let (waiting, written) = {
            let mut pile = lock(&self.desk.pile);
            pile.waiting.push_back(batch);
            (pile.waiting.len(), std::mem::take(&mut pile.written))
        };
        match self.thread {
            Thread::Dismissed => self.desk.write_all(),
            _ if waiting > MAX_QUEUED_BATCHES => self.help(),
            _ => self.desk.more.notify_one(),
        }
        written
    }

    /// Writes the last page, after all others, and gives back what they are written into.
    pub(super) fn end(self, batch: W::Batch) -> W {
        {
            let mut pile = lock(&self.desk.pile);
            pile.waiting.push_back(batch);
            pile.closed = true;
        }
        self.desk.more.notify_one();
        self.desk.write_all();
        std::mem::take(&mut *lock(&self.desk.sinks))
    }

    fn start(&self) -> Thread {
        let desk = Arc::clone(&self.desk);
        let work = move || {
            lower_priority();
            while desk.is_wanted() {
                let wrote = desk.write_next(lock(&desk.sinks));
                lock(&desk.pile).works |= wrote;
            }
        };
        match thread::Builder::new().name("writer".to_owned()).spawn(work) {
            Ok(_) => Thread::Runs,
            Err(_) => Thread::Dismissed,
        }
    }

    /// Writes a page in the thread's place, as soon as it is through with its own.
    fn help(&mut self) {
        let since = Instant::now();
        let sinks = lock(&self.desk.sinks);
        let waited = since.elapsed();
        self.desk.write_next(sinks);
        let mut pile = lock(&self.desk.pile);
        self.assists = if std::mem::take(&mut pile.works) { 0 } else { self.assists + 1 };
        if waited > PROGRESS_TIMEOUT || self.assists > MAX_ASSISTS {
            pile.closed = true;
            self.desk.more.notify_one();
            self.thread = Thread::Dismissed;
        }
    }
}

impl<W: BatchSink> Shared<W> {
    /// Waits for a page; false when there will be none.
    fn is_wanted(&self) -> bool {
        let mut pile = lock(&self.pile);
        while pile.waiting.is_empty() && !pile.closed {
            pile = self.more.wait(pile).unwrap_or_else(PoisonError::into_inner);
        }
        !pile.closed
    }

    /// Writes the oldest page. Whoever has the books takes it, so that pages stay in their order.
    fn write_next(&self, mut sinks: MutexGuard<'_, W>) -> bool {
        let Some(batch) = lock(&self.pile).waiting.pop_front() else { return false };
        // The panic hook reported the panic; the run goes on without this batch.
        if catch_unwind(AssertUnwindSafe(|| sinks.write(&batch))).is_err() {
            sinks.on_panic();
        }
        lock(&self.pile).written.push(batch);
        true
    }

    fn write_all(&self) {
        while self.write_next(lock(&self.sinks)) {}
    }
}

/// Nothing is left half done by a panic: each is caught where it may happen.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Gives this thread the time that nobody else wants. Where that is not granted, it has its share.
#[cfg(any(target_os = "linux", target_os = "android"))]
fn lower_priority() {
    use thread_priority::{NormalThreadSchedulePolicy, ThreadPriority, ThreadSchedulePolicy};
    // Not a low niceness: a processor that runs such a thread does not count as free for those who wake up.
    let idle = ThreadSchedulePolicy::Normal(NormalThreadSchedulePolicy::Idle);
    let own = thread_priority::thread_native_id();
    let _ = thread_priority::set_thread_priority_and_policy(own, ThreadPriority::Min, idle);
}

#[cfg(not(any(target_os = "linux", target_os = "android")))]
fn lower_priority() {
    let _ = thread_priority::set_current_thread_priority(thread_priority::ThreadPriority::Min);
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc::{Receiver, Sender, channel};

    /// Keeps the pages it gets; one with a gate waits for it to open.
    #[derive(Default)]
    struct NumberSink {
        numbers: Vec<usize>,
        broken: usize,
    }

    enum TestBatch {
        Number(usize),
        Gate(Sender<()>, Receiver<()>),
        Broken,
    }

    impl BatchSink for NumberSink {
        type Batch = TestBatch;

        fn write(&mut self, batch: &TestBatch) {
            match batch {
                TestBatch::Number(number) => self.numbers.push(*number),
                TestBatch::Gate(began, open) => {
                    began.send(()).expect("the test waits for it");
                    open.recv().expect("the test opens it");
                }
                TestBatch::Broken => panic!("a page that cannot be written"),
            }
        }

        fn on_panic(&mut self) {
            self.broken += 1;
        }
    }

    #[test]
    fn pages_are_written_in_their_order_by_whoever_comes_first() {
        let mut writer = Writer::new(NumberSink::default());
        let written = (0..1_000).map(|number| writer.put(TestBatch::Number(number)).len()).sum::<usize>();
        assert!((1_000 - 2 * MAX_QUEUED_BATCHES..1_000).contains(&written), "{written} pages are given back");
        let kept = writer.end(TestBatch::Number(1_000));
        assert!(kept.numbers.iter().copied().eq(0..=1_000));
    }

    #[test]
    fn without_pages_but_the_last_there_is_no_thread() {
        let writer = Writer::new(NumberSink::default());
        assert!(writer.thread == Thread::None);
        assert_eq!(writer.end(TestBatch::Number(7)).numbers, [7]);
    }

    #[test]
    fn a_thread_that_gets_no_time_is_dismissed_and_nothing_is_lost() {
        let mut writer = Writer::new(NumberSink::default());
        let (began, has_begun) = channel();
        let (opens, open) = channel();
        drop(writer.put(TestBatch::Gate(began, open)));
        has_begun.recv().expect("the thread writes it");
        let late = thread::spawn(move || {
            thread::sleep(PROGRESS_TIMEOUT * 2);
            opens.send(()).expect("it is waited for");
        });
        (0..20).for_each(|number| drop(writer.put(TestBatch::Number(number))));
        assert!(writer.thread == Thread::Dismissed);
        assert!(lock(&writer.desk.pile).waiting.is_empty(), "its author writes each page at once");
        late.join().expect("it opened the gate");
        assert!(writer.end(TestBatch::Number(20)).numbers.into_iter().eq(0..=20));
    }

    #[test]
    fn a_page_that_fails_is_told_and_the_others_are_written() {
        let mut writer = Writer::new(NumberSink::default());
        [TestBatch::Number(0), TestBatch::Broken, TestBatch::Number(1)]
            .into_iter()
            .for_each(|batch| drop(writer.put(batch)));
        let kept = writer.end(TestBatch::Broken);
        assert_eq!((kept.numbers.as_slice(), kept.broken), (&[0, 1][..], 2));
    }
}
