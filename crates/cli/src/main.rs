//! `vadegate`: the service and its client commands in one program.

mod args;
mod client;
mod commands;
mod demo;
mod failure;
mod service;
mod show;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let args = args::Args::parse();
    match commands::run(args) {
        Ok(done) => done,
        Err(failure) => {
            failure.print();
            failure.code()
        }
    }
}
