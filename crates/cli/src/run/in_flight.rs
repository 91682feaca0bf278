//! The requests in flight. The thread that waits for responses drives them; while the run computes (checks, preparing
//! requests, output), nobody would, and a slow check would count as the server's time. So after a millisecond a second
//! thread drives them until the run waits again. Most computations are shorter, and cost no switch.

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError, TryLockError};
use std::thread::{self, Scope};
use std::time::Duration;
use tokio::runtime::Runtime;
use tokio::sync::Notify;

/// How long the run may compute before the second thread takes over; elapsed times are right to about twice that.
const HAND_OVER_AFTER: Duration = Duration::from_millis(1);

/// After this many checks in a row at which the run itself was waiting, the second thread sleeps until it computes.
const CHECKS_BEFORE_SLEEP: u32 = 50;

/// The requests in flight, shared by both threads.
pub(super) struct InFlight<F: Future> {
    runtime: Runtime,
    works: Mutex<Works<F>>,
    /// 0 while the run waits for responses; else a number that is different each time it computes.
    computing: AtomicU64,
    /// Set to make the current driver stop.
    leave: Notify,
    /// Whether the thread of the run waits for the futures. The second thread must not take them again then: where the
    /// machine is busy, it can be faster than the thread that it made way for.
    wanted: AtomicBool,
    sleeps: AtomicBool,
    ended: AtomicBool,
}

/// The futures, and the results of those that ended.
pub(super) struct Works<F: Future> {
    futures: FuturesUnordered<F>,
    ended: VecDeque<F::Output>,
}

impl<F: Future> Works<F> {
    /// How many there are whose results were not taken.
    fn len(&self) -> usize {
        self.futures.len() + self.ended.len()
    }

    /// The next result; `None` if nothing is under way.
    pub(super) async fn next(&mut self) -> Option<F::Output> {
        match self.ended.pop_front() {
            Some(ended) => Some(ended),
            None => self.futures.next().await,
        }
    }
}

impl<F: Future> InFlight<F> {
    pub(super) fn new(runtime: Runtime) -> Self {
        Self {
            runtime,
            works: Mutex::new(Works { futures: FuturesUnordered::new(), ended: VecDeque::new() }),
            computing: AtomicU64::new(0),
            leave: Notify::new(),
            wanted: AtomicBool::new(false),
            sleeps: AtomicBool::new(false),
            ended: AtomicBool::new(false),
        }
    }

    pub(super) fn runtime(&self) -> &Runtime {
        &self.runtime
    }

    /// The futures, taken back from the second thread if that drives them.
    fn take(&self) -> MutexGuard<'_, Works<F>> {
        match self.works.try_lock() {
            Ok(works) => works,
            Err(TryLockError::Poisoned(poisoned)) => poisoned.into_inner(),
            Err(TryLockError::WouldBlock) => {
                // First the flag: whoever locks before it is set is notified, and whoever does later sees it.
                self.wanted.store(true, Ordering::SeqCst);
                self.leave.notify_one();
                let works = self.works.lock().unwrap_or_else(PoisonError::into_inner);
                self.wanted.store(false, Ordering::SeqCst);
                works
            }
        }
    }

    /// The second thread: drives the futures whenever the run has been computing for a moment.
    fn take_over_when_needed(&self) {
        let (mut seen, mut looks) = (0, 0);
        while !self.ended.load(Ordering::Acquire) {
            match looks < CHECKS_BEFORE_SLEEP {
                true => thread::park_timeout(HAND_OVER_AFTER),
                false => {
                    self.sleeps.store(true, Ordering::SeqCst);
                    // It may have begun to compute just before.
                    if self.computing.load(Ordering::SeqCst) == 0 && !self.ended.load(Ordering::SeqCst) {
                        thread::park();
                    }
                    self.sleeps.store(false, Ordering::SeqCst);
                }
            }
            let computing = self.computing.load(Ordering::Acquire);
            looks = if computing == 0 { looks + 1 } else { 0 };
            if computing == 0 || std::mem::replace(&mut seen, computing) != computing {
                continue;
            }
            let Ok(mut works) = self.works.lock() else { return };
            if self.computing.load(Ordering::SeqCst) == computing && !self.wanted.load(Ordering::SeqCst) {
                self.runtime.block_on(self.drive(&mut works));
            }
        }
    }

    async fn drive(&self, works: &mut Works<F>) {
        let leave = std::pin::pin!(self.leave.notified());
        let all = async {
            while let Some(ended) = works.futures.next().await {
                works.ended.push_back(ended);
            }
            std::future::pending::<()>().await;
        };
        futures_util::future::select(leave, std::pin::pin!(all)).await;
    }
}

/// The thread of the run, which owns what is under way.
pub(super) struct Driver<'s, 'e, F: Future> {
    in_flight: &'s InFlight<F>,
    scope: &'s Scope<'s, 'e>,
    /// Whether a second thread takes over.
    has_helper: bool,
    helper: Option<thread::Thread>,
    times: u64,
    len: usize,
}

impl<'s, F> Driver<'s, '_, F>
where
    F: Future + Send,
    F::Output: Send,
    InFlight<F>: Sync,
{
    /// A driver in this scope; without `helper` no second thread is started.
    pub(super) fn new<'e>(in_flight: &'s InFlight<F>, scope: &'s Scope<'s, 'e>, helper: bool) -> Driver<'s, 'e, F> {
        Driver { in_flight, scope, has_helper: helper, helper: None, times: 0, len: 0 }
    }

    /// How many are under way.
    pub(super) fn len(&self) -> usize {
        self.len
    }

    /// Adds one; it begins when it is waited for.
    pub(super) fn push(&mut self, work: F) {
        self.in_flight.take().futures.push(work);
        self.len += 1;
        if self.in_flight.computing.load(Ordering::Relaxed) == 0 {
            self.compute();
        }
    }

    /// Works on what is under way, which gives a result or does not.
    pub(super) fn wait<R>(&mut self, work: impl AsyncFnOnce(&mut Works<F>) -> R) -> R {
        self.in_flight.computing.store(0, Ordering::SeqCst);
        let mut works = self.in_flight.take();
        let result = self.in_flight.runtime.block_on(work(&mut works));
        self.len = works.len();
        drop(works);
        if self.len > 0 {
            self.compute();
        }
        result
    }

    /// From now on the run computes.
    fn compute(&mut self) {
        if !self.has_helper {
            return;
        }
        self.times += 1;
        self.in_flight.computing.store(self.times, Ordering::SeqCst);
        match &self.helper {
            Some(helper) if self.in_flight.sleeps.load(Ordering::SeqCst) => helper.unpark(),
            Some(_) => {}
            None => {
                let in_flight = self.in_flight;
                let thread = thread::Builder::new().name("receiving".to_owned());
                // Without the thread responses are only noticed late.
                match thread.spawn_scoped(self.scope, || in_flight.take_over_when_needed()) {
                    Ok(handle) => self.helper = Some(handle.thread().clone()),
                    Err(error) => {
                        tracing::debug!(%error, "no thread receives while checks are evaluated");
                        self.has_helper = false;
                    }
                }
            }
        }
    }
}

impl<F: Future> Drop for Driver<'_, '_, F> {
    /// The scope waits for its thread.
    fn drop(&mut self) {
        self.in_flight.ended.store(true, Ordering::SeqCst);
        self.in_flight.leave.notify_one();
        if let Some(helper) = &self.helper {
            helper.unpark();
        }
    }
}
