//! Two halves of one reading, each on a core of its own.

use std::sync::mpsc::{Receiver, SyncSender, TryRecvError, channel, sync_channel};
use std::thread;

/// Batches that may wait: more would only leave the core's own cache.
const WAITING: usize = 8;

/// Has `make` make items on a thread of its own while `take` takes them on this one, in the same order. They are
/// handed over so many at once.
pub(crate) fn apart<T: Send, R: Send, const AT_ONCE: usize>(
    make: impl FnOnce(&mut Batches<T, AT_ONCE>) -> R + Send,
    mut take: impl FnMut(&T),
) -> R {
    let (sender, batches) = sync_channel(WAITING);
    let (give_back, used) = channel();
    thread::scope(|scope| {
        let maker = scope.spawn(move || {
            let mut batches = Batches { items: Vec::new(), sender, used };
            let result = make(&mut batches);
            batches.hand_over();
            result
        });
        for batch in batches {
            for item in &batch {
                take(item);
            }
            // Nobody needs it any more once all is made.
            let _ = give_back.send(batch);
        }
        maker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// Items on their way to the other half.
#[derive(Debug)]
pub(crate) struct Batches<T, const AT_ONCE: usize> {
    items: Vec<T>,
    sender: SyncSender<Vec<T>>,
    used: Receiver<Vec<T>>,
}

impl<T, const AT_ONCE: usize> Batches<T, AT_ONCE> {
    /// One more item, which the other half takes after those before it.
    #[inline(always)]
    pub(crate) fn push(&mut self, item: T) {
        self.items.push(item);
        if self.items.len() >= AT_ONCE {
            self.hand_over();
        }
    }

    /// One more, if there is one.
    pub(crate) fn extend(&mut self, item: Option<T>) {
        item.into_iter().for_each(|item| self.push(item));
    }

    #[cold]
    fn hand_over(&mut self) {
        let mut empty = match self.used.try_recv() {
            Ok(batch) => batch,
            Err(TryRecvError::Empty | TryRecvError::Disconnected) => Vec::with_capacity(AT_ONCE),
        };
        empty.clear();
        // Whoever takes only stops when nothing comes any more.
        let _ = self.sender.send(std::mem::replace(&mut self.items, empty));
    }
}

#[cfg(test)]
mod tests {
    use super::{Batches, apart};

    #[test]
    fn items_arrive_in_order_and_the_last_batch_with_them() {
        let mut taken = Vec::new();
        let made = apart(
            |batches: &mut Batches<u32, 16>| {
                for item in 0..1000_u32 {
                    batches.push(item);
                }
                "all"
            },
            |item| taken.push(*item),
        );
        assert_eq!(made, "all");
        assert!(taken.iter().copied().eq(0..1000));
    }
}
