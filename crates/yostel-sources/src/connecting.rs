//! New connections: no more are begun than requests are without one.
//!
//! The client gives a request that waits for a connection whichever is there first: the one that is begun for it, or one that
//! another request is done with. The one that was begun comes all the same, and the next request, finding none, would begin
//! one more: where reaching a server takes as long as an answer, there would soon be twice as many as are ever in use.

use std::collections::BTreeMap;
use std::error::Error;
use std::future::poll_fn;
use std::pin::{Pin, pin};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, Waker};

use tower_layer::Layer;
use tower_service::Service;

/// How often the tasks that are there get their turn until a connection is given back: with one it was seen not to be.
const GIVING_BACK: usize = 4;

/// Why a connection is not begun.
type Fault = Box<dyn Error + Send + Sync>;

tokio::task_local! {
    /// The request in whose name something is done. What the client goes on with when a request has no use for it any more is
    /// done in the name of none.
    static ASKED: Arc<Asked>;
}

/// A request to a server, from when it is asked to when it is answered.
#[derive(Debug)]
struct Asked {
    server: String,
    /// Whether it is without a connection, where that is counted.
    is_without: Mutex<Option<Counts>>,
    /// Whether it was looked for one since this was set to false.
    is_looking: AtomicBool,
}

impl Asked {
    /// Notes that it is without a connection, and looks for one.
    fn looks(&self, counts: &Counts) {
        self.is_looking.store(true, Ordering::Relaxed);
        let mut without = self.is_without.lock().unwrap_or_else(PoisonError::into_inner);
        if without.is_none() {
            counts.change(&self.server, |count| count.without += 1);
            *without = Some(counts.clone());
        }
    }

    /// Notes that it has one, or needs none.
    fn has_one(&self) {
        let without = self.is_without.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(counts) = without {
            counts.change(&self.server, |count| count.without -= 1);
        }
    }

    /// Returns whether what is done is done in its name.
    fn is_asked(&self) -> bool {
        ASKED.try_with(|asked| std::ptr::eq(&raw const **asked, self)).unwrap_or(false)
    }
}

/// A request that is over needs no connection, however it ended.
struct Ends(Arc<Asked>);

impl Drop for Ends {
    fn drop(&mut self) {
        self.0.has_one();
    }
}

/// Does something in the name of a request to a server.
pub(crate) async fn asking<T>(server: String, request: impl Future<Output = T>) -> T {
    let asked = Arc::new(Asked { server, is_without: Mutex::default(), is_looking: AtomicBool::new(false) });
    let ends = Ends(asked.clone());
    let mut request = pin!(ASKED.scope(asked.clone(), request));
    let answer = poll_fn(|context| {
        let answer = request.as_mut().poll(context);
        // Whoever is without one looks for it each time: whoever does not got one, be it begun for another.
        if !asked.is_looking.swap(false, Ordering::Relaxed) {
            asked.has_one();
        }
        answer
    })
    .await;
    drop(ends);
    answer
}

/// Waits until the connection of an answer that was read is there for the next request, which would else begin one more: the
/// client gives it back by tasks of its own, one after the other.
pub(crate) async fn given_back() {
    for _ in 0..GIVING_BACK {
        tokio::task::yield_now().await;
    }
}

/// What is known of the connections to one server.
#[derive(Debug, Default)]
struct Count {
    /// Requests that are without one.
    without: usize,
    /// Connections that are begun and not there yet.
    begun: usize,
    /// Requests that wait for one that others began.
    waiting: Vec<Waker>,
}

/// Counts by server, shared by all that connect.
#[derive(Debug, Clone, Default)]
struct Counts(Arc<Mutex<BTreeMap<String, Count>>>);

impl Counts {
    fn change<T>(&self, server: &str, change: impl FnOnce(&mut Count) -> T) -> T {
        let mut counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        change(counts.entry(server.to_owned()).or_default())
    }
}

/// Holds back connections that nobody needs.
#[derive(Debug, Clone, Default)]
pub(crate) struct AsManyAsNeeded(Counts);

impl<S> Layer<S> for AsManyAsNeeded {
    type Service = Connecting<S>;

    fn layer(&self, inner: S) -> Connecting<S> {
        Connecting { inner, counts: self.0.clone() }
    }
}

/// Connects by another, when a connection is needed.
#[derive(Debug, Clone)]
pub(crate) struct Connecting<S> {
    inner: S,
    counts: Counts,
}

impl<R, S> Service<R> for Connecting<S>
where
    R: Send + 'static,
    S: Service<R, Error = Fault> + Clone + Send + 'static,
    S::Future: Send,
    S::Response: Send,
{
    type Response = S::Response;
    type Error = Fault;
    type Future = Pin<Box<dyn Future<Output = Result<S::Response, Fault>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Fault>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, request: R) -> Self::Future {
        // The one that was asked whether it is ready is the one that has to be called.
        let ready = self.inner.clone();
        let mut inner = std::mem::replace(&mut self.inner, ready);
        let Ok(asked) = ASKED.try_with(Arc::clone) else { return Box::pin(inner.call(request)) };
        let counts = self.counts.clone();
        Box::pin(async move {
            let _begun = poll_fn(|context| begin(&counts, &asked, context)).await?;
            let mut connecting = pin!(inner.call(request));
            poll_fn(|context| {
                let connected = connecting.as_mut().poll(context);
                match (asked.is_asked(), connected.is_ready()) {
                    (true, true) => asked.has_one(),
                    (true, false) => asked.looks(&counts),
                    (false, _) => {}
                }
                connected
            })
            .await
        })
    }
}

/// Begins a connection as soon as fewer are begun than requests are without one.
fn begin(counts: &Counts, asked: &Arc<Asked>, context: &Context<'_>) -> Poll<Result<Begun, Fault>> {
    if !asked.is_asked() {
        return Poll::Ready(Err("nobody needs this connection any more".into()));
    }
    asked.looks(counts);
    let begins = counts.change(&asked.server, |count| {
        let begins = count.begun < count.without;
        if begins {
            count.begun += 1;
        } else {
            count.waiting.push(context.waker().clone());
        }
        begins
    });
    let begun = || Begun { counts: counts.clone(), server: asked.server.clone() };
    if begins { Poll::Ready(Ok(begun())) } else { Poll::Pending }
}

/// A connection that is begun and not there yet.
struct Begun {
    counts: Counts,
    server: String,
}

impl Drop for Begun {
    fn drop(&mut self) {
        let waiting = self.counts.change(&self.server, |count| {
            count.begun -= 1;
            std::mem::take(&mut count.waiting)
        });
        waiting.into_iter().for_each(Waker::wake);
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use reqwest::Client;
    use yostel_testkit::{WebFailure, WebServer};

    use super::*;
    use crate::clients::runtime;

    /// Takes as long to connect as several answers do.
    #[derive(Clone)]
    struct Slow<S>(S);

    impl<R: Send + 'static, S> Service<R> for Slow<S>
    where
        S: Service<R, Error = Fault> + Clone + Send + 'static,
        S::Future: Send,
    {
        type Response = S::Response;
        type Error = Fault;
        type Future = Pin<Box<dyn Future<Output = Result<S::Response, Fault>> + Send>>;

        fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Fault>> {
            self.0.poll_ready(context)
        }

        fn call(&mut self, request: R) -> Self::Future {
            let mut inner = self.0.clone();
            Box::pin(async move {
                tokio::time::sleep(Duration::from_millis(40)).await;
                inner.call(request).await
            })
        }
    }

    #[test]
    fn no_more_connections_are_begun_than_requests_are_without_one() {
        const AT_ONCE: usize = 16;
        let runtime = runtime().unwrap();
        let folder = tempfile::tempdir().unwrap();
        let server = WebServer::failing(folder.path(), |_| {
            std::thread::sleep(Duration::from_millis(5));
            Some(WebFailure::Answer(200, Vec::new(), b"x".to_vec()))
        });
        let slow = tower_layer::layer_fn(Slow);
        let client = Client::builder().connector_layer(slow).connector_layer(AsManyAsNeeded::default());
        let client = client.build().unwrap();
        let address = format!("{}/x", server.address());
        let one_after_the_other = |number: usize| {
            let (client, address) = (client.clone(), address.clone());
            async move {
                // They begin one by one, when those before have their connections or wait for them.
                tokio::time::sleep(Duration::from_millis(9) * u32::try_from(number).unwrap()).await;
                for _ in 0..40 {
                    let answer = asking("server".to_owned(), client.get(&address).send()).await.unwrap();
                    assert_eq!(answer.text().await.unwrap(), "x");
                    given_back().await;
                }
            }
        };
        let all: Vec<_> = (0..AT_ONCE).map(|number| runtime.spawn(one_after_the_other(number))).collect();
        all.into_iter().for_each(|task| runtime.block_on(task).unwrap());
        let most = server.most_at_once();
        assert!(most <= AT_ONCE + 6, "{most}");
    }
}
