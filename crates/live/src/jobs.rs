//! Work that takes a while and goes on by itself: how far it is, and whether it shall stop.

use std::sync::{
    Arc, Mutex, PoisonError,
    atomic::{AtomicBool, AtomicU64, Ordering},
};
use uuid::Uuid;

/// One piece of work.
#[derive(Debug)]
pub struct Job {
    pub id: Uuid,
    /// What it does, in words: “Loading the recorded past”.
    pub title: String,
    done: AtomicU64,
    total: u64,
    cancelled: AtomicBool,
}

impl Job {
    /// Notes how much of the total is done.
    pub fn reach(&self, done: u64) {
        self.done.store(done.min(self.total), Ordering::Relaxed);
    }

    /// Notes how much is done, from 0 to 1, and says whether to go on.
    pub fn go_on(&self, share: f64) -> bool {
        self.reach((share * self.total as f64) as u64);
        !self.cancelled()
    }

    /// Done and total, in the job's own measure.
    pub fn progress(&self) -> (u64, u64) {
        (self.done.load(Ordering::Relaxed), self.total)
    }

    /// Whether somebody wants it to stop. The work itself looks, between two steps.
    pub fn cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }
}

/// What is being worked on.
#[derive(Debug, Default)]
pub struct Jobs(Mutex<Vec<Arc<Job>>>);

impl Jobs {
    /// Enters a job. It is listed until the guard is dropped.
    pub fn begin(self: &Arc<Self>, title: &str, total: u64) -> Running {
        let (done, cancelled) = (AtomicU64::new(0), AtomicBool::new(false));
        let job = Arc::new(Job { id: Uuid::now_v7(), title: title.to_owned(), done, total: total.max(1), cancelled });
        self.lock().push(job.clone());
        Running { job, jobs: self.clone() }
    }

    /// The jobs that run now, oldest first.
    pub fn running(&self) -> Vec<Arc<Job>> {
        self.lock().clone()
    }

    /// Asks a job to stop. `false`: it does not run.
    pub fn cancel(&self, id: Uuid) -> bool {
        let job = self.lock().iter().find(|j| j.id == id).cloned();
        job.as_ref().inspect(|j| j.cancelled.store(true, Ordering::Relaxed)).is_some()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Job>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A job that runs; dropping it takes it off the list.
#[derive(Debug)]
pub struct Running {
    job: Arc<Job>,
    jobs: Arc<Jobs>,
}

impl Running {
    /// The job, for whoever works at it elsewhere.
    pub fn share(&self) -> Arc<Job> {
        self.job.clone()
    }
}

impl std::ops::Deref for Running {
    type Target = Job;

    fn deref(&self) -> &Job {
        &self.job
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.jobs.lock().retain(|j| j.id != self.job.id);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_job_is_listed_while_it_runs_and_can_be_asked_to_stop() {
        let jobs = Arc::new(Jobs::default());
        let running = jobs.begin("Loading", 10);
        running.reach(25);
        assert_eq!(jobs.running()[0].progress(), (10, 10));
        assert!(running.go_on(0.25));
        assert_eq!(running.share().progress(), (2, 10));
        assert!(!running.cancelled() && jobs.cancel(running.id) && running.cancelled() && !running.go_on(0.5));
        let id = running.id;
        drop(running);
        assert!(jobs.running().is_empty() && !jobs.cancel(id));
    }
}
