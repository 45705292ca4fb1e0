//! The `wetbank` command: the service, the demo, and everything one asks of a service.

mod command;
mod connect;
mod demo;
mod output;

use std::{io::IsTerminal, process::ExitCode};

use clap::Parser;
use tracing_subscriber::EnvFilter;
use wetbank_client::ClientError;

use command::Cli;

/// Large files are many chunks that come and go between threads; the system's allocator gives each
/// back to the kernel and asks for the next one anew, which costs a tenth of the time.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How a command ended.
pub(crate) enum End {
    /// It is done.
    Done,
    /// It ran and something failed; the last line said what.
    Failed,
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    let default = if cli.is_service() { "info" } else { "error" };
    tracing_subscriber::fmt()
        .with_env_filter(EnvFilter::try_from_env("WETBANK_LOG").unwrap_or_else(|_| EnvFilter::new(default)))
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .init();
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let result = match runtime {
        Ok(runtime) => {
            let result = runtime.block_on(cli.run());
            runtime.shutdown_background();
            result
        }
        Err(error) => Err(error.into()),
    };
    match result {
        Ok(End::Done) => ExitCode::SUCCESS,
        Ok(End::Failed) => ExitCode::from(1),
        Err(error) => {
            eprintln!("wetbank: {error:#}");
            ExitCode::from(exit_code(&error))
        }
    }
}

/// 1: it ran and failed. 2: the request was wrong. 3: no service reached.
fn exit_code(error: &anyhow::Error) -> u8 {
    match error.downcast_ref::<ClientError>() {
        Some(ClientError::Unreachable { .. } | ClientError::Strange { .. }) => 3,
        Some(ClientError::Refused(problem)) if matches!(problem.status, 502 | 500) => 1,
        Some(_) => 2,
        None if error.downcast_ref::<connect::NoService>().is_some() => 3,
        None if error.downcast_ref::<command::WrongRequest>().is_some() => 2,
        None => 1,
    }
}
