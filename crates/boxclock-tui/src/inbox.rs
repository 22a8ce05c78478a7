//! Where a job leaves an answer for the view that asked: the view takes it before its next frame.

use std::sync::{Arc, Mutex, PoisonError};

/// One answer, until it is taken. A newer one takes the place of the older.
pub struct Inbox<T>(Arc<Mutex<Option<T>>>);

impl<T> Inbox<T> {
    /// Leaves an answer.
    pub fn put(&self, answer: T) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(answer);
    }

    /// Takes the answer, if there is one.
    pub fn take(&self) -> Option<T> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl<T> Clone for Inbox<T> {
    fn clone(&self) -> Self {
        Self(Arc::clone(&self.0))
    }
}

impl<T> Default for Inbox<T> {
    fn default() -> Self {
        Self(Arc::default())
    }
}
