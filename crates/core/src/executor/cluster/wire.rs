//! What a run and its workers say to each other: each message in postcard (the format of the crate of this name), behind
//! its length as four bytes, little end first.

use std::io;
use std::io::Read;
use std::io::Write;
use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::executor::cluster::settling::FileMark;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::sealing::Seal;

/// What both sides must have the same of: the program's version, and that of these messages.
pub const VERSION: &str = concat!(env!("CARGO_PKG_VERSION"), "/2");

/// A message is no longer than this, bytes.
const LONGEST: usize = 64 << 20;

/// Nor is the first, of who may be anybody.
const LONGEST_HELLO: usize = 16 << 10;

/// Each side says something at least so often.
pub const HEARTBEAT: Duration = Duration::from_secs(2);

/// A side that says nothing for so long is gone.
pub const SILENCE: Duration = Duration::from_secs(9);

/// To a worker.
#[derive(Debug, Serialize, Deserialize)]
pub enum ToWorker {
    /// It is one of ours. How jobs run there, which every worker of a run does alike.
    Welcome(WorkerManner),
    /// Run this.
    Run(u64, Box<JobOrder>),
    /// The wish to end has become so strong; jobs are asked with this signal.
    Cancel(u8, i32),
    /// The other side is still there.
    Alive,
    /// Nothing is left to do.
    Leave,
}

/// A job for a worker.
#[derive(Debug, Serialize, Deserialize)]
pub struct JobOrder {
    /// The job.
    pub job: Job,
    /// What it may read and write, when it may not all.
    pub seal: Option<Seal>,
    /// What it reads, as the run sees it.
    pub reads: Vec<FileMark>,
    /// What it writes: how that is seen there is said when it has ended.
    pub writes: Vec<String>,
}

/// How jobs run on a worker.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct WorkerManner {
    /// How long jobs have that are asked to end.
    pub grace: Duration,
    /// What sealed jobs may read outside of the project.
    pub sealed_reads: Vec<String>,
    /// How wide the terminal is that they write to, when they do.
    pub columns: Option<u16>,
    /// A worker that has had nothing to do for so long leaves; never, when it is nothing.
    pub idle: Duration,
    /// What it reads is waited for so long, until it is seen as the run sees it.
    pub settle: Duration,
}

/// From a worker.
#[derive(Debug, Serialize, Deserialize)]
pub enum FromWorker {
    /// The first that it says.
    Hello(Hello),
    /// A job printed this.
    Printed(u64, Vec<u8>),
    /// A job has ended, and what it wrote is seen so.
    Ended(u64, Box<Outcome>, Vec<FileMark>),
    /// It is still there.
    Alive,
}

/// Who a worker is.
#[derive(Debug, Serialize, Deserialize)]
pub struct Hello {
    /// [`VERSION`], as it has it.
    pub version: String,
    /// The token that it was given.
    pub token: String,
    /// The node that it is on.
    pub node: String,
    /// The submission that it runs in.
    pub allocation: String,
    /// Cores that it has.
    pub cores: u64,
    /// The single job that it was asked for; 0 for any.
    pub order: u64,
    /// What is wrong there, so that it can take no jobs.
    pub complaint: Option<String>,
}

/// Writes a message.
///
/// # Errors
/// The other side is gone.
pub fn send(stream: &mut impl Write, message: &impl Serialize) -> io::Result<()> {
    let body = postcard::to_allocvec(message).map_err(io::Error::other)?;
    let length = u32::try_from(body.len()).map_err(io::Error::other)?;
    let mut whole = Vec::with_capacity(body.len() + 4);
    whole.extend_from_slice(&length.to_le_bytes());
    whole.extend_from_slice(&body);
    stream.write_all(&whole)
}

/// Reads a message.
///
/// # Errors
/// The other side is gone, says nothing for longer than the stream waits, or says what is no message.
pub fn receive<M: DeserializeOwned>(stream: &mut impl Read) -> io::Result<M> {
    receive_within(LONGEST, stream)
}

/// Reads the first message of who has not shown a token yet.
///
/// # Errors
/// As [`receive`].
pub fn receive_first<M: DeserializeOwned>(stream: &mut impl Read) -> io::Result<M> {
    receive_within(LONGEST_HELLO, stream)
}

fn receive_within<M: DeserializeOwned>(longest: usize, stream: &mut impl Read) -> io::Result<M> {
    let mut length = [0; 4];
    stream.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length) as usize;
    if length > longest {
        return Err(io::Error::other("a message is too long"));
    }
    let mut body = vec![0; length];
    stream.read_exact(&mut body)?;
    postcard::from_bytes(&body).map_err(io::Error::other)
}
