//! A server, as it is started and ended.

use std::io::{BufRead, BufReader, Read};
use std::path::PathBuf;
use std::process::{Child, ChildStdout, Command};

use crate::client::Client;
use crate::scene::Scene;

/// A server, ended politely at the latest when it is dropped.
pub struct Server {
    pub child: Child,
    out: BufReader<ChildStdout>,
    pub uri: String,
    pub socket: PathBuf,
}

impl Server {
    /// Starts `zsap serve` with a socket of its own, and waits until it serves.
    pub fn start(scene: &Scene, typed: &str) -> Self {
        let socket = scene.path("served.sock");
        let mut child = scene.start(&format!("serve {typed} --socket {}", socket.display()));
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut uri = String::new();
        out.read_line(&mut uri).unwrap();
        if uri.is_empty() {
            let mut told = String::new();
            child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
            panic!("{typed}: {told}");
        }
        Self { child, out, uri: uri.trim().to_owned(), socket }
    }

    pub fn client(&self) -> Client {
        Client::with_disk(&self.socket, "", true, &[])
    }

    pub fn signal(&self, signal: &str) {
        Command::new("kill").args([signal, &self.child.id().to_string()]).status().unwrap();
    }

    /// Ends it, and returns its status and what it told.
    pub fn end(mut self, signal: &str) -> (i32, String) {
        self.signal(signal);
        let status = self.child.wait().unwrap();
        let mut told = String::new();
        self.out.read_to_string(&mut told).unwrap();
        (status.code().unwrap_or(-1), told)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if self.child.try_wait().ok().flatten().is_none() {
            self.signal("-TERM");
            _ = self.child.wait();
        }
    }
}
