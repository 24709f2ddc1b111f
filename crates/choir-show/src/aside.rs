//! Work of codecs, each on a thread of its own that ends with it. On a pool's threads, which take
//! turns and stay, the memory that a codec leaves to its thread's heap would be kept once for each.

use std::{io, thread};
use tokio::sync::oneshot;

/// Starts it.
///
/// # Errors
/// The system has no thread left.
pub(crate) fn begin(name: &str, work: impl FnOnce() + Send + 'static) -> io::Result<()> {
    thread::Builder::new().name(name.to_owned()).spawn(work).map(drop)
}

/// Its result; none where it was given up, or the system has no thread left.
pub(crate) async fn result<T: Send + 'static>(name: &str, work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
    let (done, result) = oneshot::channel();
    begin(name, move || drop(done.send(work()))).ok()?;
    result.await.ok()
}

#[cfg(test)]
mod tests {
    #[tokio::test]
    async fn a_result_comes_and_a_panic_ends_only_itself() {
        assert_eq!(super::result("sum", || 1 + 1).await, Some(2));
        assert_eq!(super::result::<()>("given up", || panic!("hostile bytes")).await, None);
    }
}
