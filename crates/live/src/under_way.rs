//! Work that becomes due and is done several pieces at a time, each once.

use std::{collections::HashSet, time::Duration};
use tokio::{sync::Notify, task::JoinSet, time::sleep};
use uuid::Uuid;

/// Does what is due for ever: `due` is asked every `look` and whenever somebody rings, for as many pieces as there is room for, and is told
/// which are under way; `work` does one piece.
pub(crate) async fn several_at_once<T, D, W>(
    (look, ring, most): (Duration, &Notify, usize),
    due: impl Fn(Vec<Uuid>, usize) -> D,
    work: impl Fn(T) -> W,
) where
    D: Future<Output = Vec<(Uuid, T)>>,
    W: Future<Output = ()> + Send + 'static,
{
    let (mut under_way, mut tasks) = (HashSet::new(), JoinSet::new());
    loop {
        let room = most.saturating_sub(under_way.len());
        if room > 0 {
            for (id, piece) in due(under_way.iter().copied().collect(), room).await {
                under_way.insert(id);
                let work = work(piece);
                tasks.spawn(async move {
                    work.await;
                    id
                });
            }
        }
        tokio::select! {
            () = sleep(look) => {}
            () = ring.notified() => {}
            Some(done) = tasks.join_next() => match done {
                Ok(id) => drop(under_way.remove(&id)),
                // Which one it was is not told: all that are not done are begun again, as after a restart.
                Err(error) => {
                    tracing::error!(%error, "a piece of work failed");
                    tasks.abort_all();
                    under_way.clear();
                }
            },
        }
    }
}
