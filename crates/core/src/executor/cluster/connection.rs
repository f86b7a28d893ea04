//! A worker, as the run that controls it has it.

use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::sync::Mutex;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::sync::mpsc::Receiver;
use std::sync::mpsc::Sender;

use crate::executor::cluster::settling::FileMark;
use crate::executor::cluster::wire::FromWorker;
use crate::executor::cluster::wire::Hello;
use crate::executor::cluster::wire::JobOrder;
use crate::executor::cluster::wire::ToWorker;
use crate::executor::cluster::wire::receive;
use crate::executor::cluster::wire::send;
use crate::executor::job::Outcome;
use crate::world::lock;

/// What is heard of one job.
#[derive(Debug)]
pub enum JobMessage {
    /// It printed this.
    Printed(Vec<u8>),
    /// It has ended, and what it wrote is seen there so.
    Ended(Box<Outcome>, Vec<FileMark>),
}

/// A worker that has said hello.
#[derive(Debug)]
pub struct Connection {
    /// Who it is.
    pub hello: Hello,
    stream: Mutex<TcpStream>,
    /// Who waits for what is heard of a job, by its number; none once the worker is gone.
    jobs: Mutex<Option<HashMap<u64, Sender<JobMessage>>>>,
    next: AtomicU64,
}

impl Connection {
    /// A worker at the other end of a stream.
    pub fn new(hello: Hello, stream: TcpStream) -> Self {
        Self {
            hello,
            stream: Mutex::new(stream),
            jobs: Mutex::new(Some(HashMap::new())),
            next: AtomicU64::new(0),
        }
    }

    /// Says something to it.
    ///
    /// # Errors
    /// It is gone.
    pub fn say(&self, message: &ToWorker) -> io::Result<()> {
        send(&mut *lock(&self.stream), message)
    }

    /// Begins a job there; what is heard of it comes until it has ended, or the worker is gone.
    ///
    /// # Errors
    /// It is gone already.
    pub fn begin(&self, order: JobOrder) -> io::Result<Receiver<JobMessage>> {
        let number = self.next.fetch_add(1, Ordering::Relaxed);
        let (sender, receiver) = mpsc::channel();
        match &mut *lock(&self.jobs) {
            Some(jobs) => jobs.insert(number, sender),
            None => return Err(io::ErrorKind::NotConnected.into()),
        };
        self.say(&ToWorker::Run(number, Box::new(order)))?;
        Ok(receiver)
    }

    /// Hands on what it says, until it is gone.
    pub fn listen(&self, mut stream: TcpStream) {
        while let Ok(message) = receive(&mut stream) {
            let mut jobs = lock(&self.jobs);
            let Some(jobs) = &mut *jobs else { break };
            // Who does not listen any more has given its job up.
            match message {
                FromWorker::Printed(number, bytes) => {
                    if let Some(job) = jobs.get(&number) {
                        let _ = job.send(JobMessage::Printed(bytes));
                    }
                }
                FromWorker::Ended(number, outcome, wrote) => {
                    if let Some(job) = jobs.remove(&number) {
                        let _ = job.send(JobMessage::Ended(outcome, wrote));
                    }
                }
                FromWorker::Alive | FromWorker::Hello(_) => {}
            }
        }
        self.close();
    }

    /// Whether it is gone.
    pub fn is_closed(&self) -> bool {
        lock(&self.jobs).is_none()
    }

    /// Takes it for gone: its jobs are heard of no more.
    pub fn close(&self) {
        *lock(&self.jobs) = None;
        // It may be closed already.
        let _ = lock(&self.stream).shutdown(std::net::Shutdown::Both);
    }
}
