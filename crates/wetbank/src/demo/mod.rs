//! The demo: the Merrow Estuary Survey Office for an afternoon, with stand-ins for its partners.

mod check;
mod scene;

use std::{net::SocketAddr, path::PathBuf, time::Duration};

use anyhow::Result;
use jiff::Timestamp;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Rights, Role};

use crate::{
    End,
    command::serve::{Listen, Service, stop_on_signal},
    output::Output,
};
use scene::Scene;

/// A new file comes this often.
const FEED_EVERY: Duration = Duration::from_secs(4);

/// Who looks after the arrangements.
const COLLEAGUES: [(&str, &str, Role); 3] =
    [("ina", "Ina Skerry", Role::Owner), ("tove", "Tove Brae", Role::Manager), ("mads", "Mads Orrin", Role::Operator)];

#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Run the whole example by itself and check what became of every file
    #[arg(long)]
    check: bool,
    /// Where to keep the demo's files; a new folder for temporary files if left out
    #[arg(long, value_name = "DIR")]
    folder: Option<PathBuf>,
    /// Where to listen
    #[arg(long, default_value = "127.0.0.1:8271", value_name = "ADDRESS")]
    listen: SocketAddr,
    /// Give the sample files all at once and no more after them
    #[arg(long)]
    still: bool,
}

pub(crate) async fn run(args: Args, output: Output) -> Result<End> {
    let temporary = tempfile::Builder::new().prefix("wetbank-demo-").tempdir()?;
    let folder = args.folder.clone().unwrap_or_else(|| temporary.path().to_owned());
    let listen = if args.check { SocketAddr::from(([127, 0, 0, 1], 0)) } else { args.listen };
    let scene = Scene::lay_out(&folder).await?;
    let service = Service::start(&scene.data(), Listen::here(listen), None, false).await?;
    scene.arrange(&service.engine).await?;
    for (name, title, role) in COLLEAGUES {
        service.people.put_user(name, title, Rights::everywhere(role), Timestamp::now()).await?;
    }
    if args.check {
        let fine = check::run(&scene, &service.engine, output).await;
        service.engine.stop().await;
        return Ok(if fine? { End::Done } else { End::Failed });
    }
    let stop = CancellationToken::new();
    stop_on_signal(stop.clone())?;
    eprintln!("The Merrow Estuary Survey Office is open.");
    eprintln!();
    eprintln!("  Console        {}", service.link.as_deref().unwrap_or(&service.url));
    eprintln!("  Its folders    {}", scene.office().display());
    eprintln!("  The harbour    {} (SFTP on {})", scene.harbour().display(), scene.harbour_address());
    eprintln!(
        "  Its mail       {} (a file a letter; those that were sent are in sent)",
        scene.post().folder().display()
    );
    eprintln!("  Command line   export WETBANK_DATA={}", scene.data().display());
    eprintln!();
    eprintln!("A new file comes every few seconds. Ctrl-C ends the demo.");
    let feeding = stop.clone();
    let still = args.still;
    let engine = service.engine.clone();
    let feeder = tokio::spawn(async move {
        if let Err(error) = scene.feed_all(&engine).await {
            tracing::warn!(%error, "the demo could not write its sample files");
        }
        if still {
            feeding.cancelled().await;
            return;
        }
        for number in 1.. {
            tokio::select! {
                () = tokio::time::sleep(FEED_EVERY) => {}
                () = feeding.cancelled() => return,
            }
            if let Err(error) = scene.feed(&engine, number).await {
                tracing::warn!(%error, "the demo could not write a sample file");
            }
        }
    });
    service.run(stop).await?;
    let _ = feeder.await;
    Ok(End::Done)
}
