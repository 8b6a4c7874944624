//! A stand-in for a mail server: it speaks as much of SMTP (RFC 5321) as a sender needs, and keeps
//! every message as a file. It delivers nothing.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// Where the stand-in keeps what it is given.
#[derive(Debug, Clone)]
pub struct StandIn {
    /// Folder of the messages, `000001.eml` and so on.
    pub folder: PathBuf,
}

/// Longest message that it takes, in bytes.
const MOST_BYTES: usize = 1 << 20;

/// Serves until it is dropped.
///
/// # Errors
/// When the folder cannot be made or the listener fails.
pub async fn serve_stand_in(listener: TcpListener, stand_in: StandIn) -> std::io::Result<()> {
    tokio::fs::create_dir_all(&stand_in.folder).await?;
    let mut kept = 0;
    let mut folder = tokio::fs::read_dir(&stand_in.folder).await?;
    while folder.next_entry().await?.is_some() {
        kept += 1;
    }
    let (stand_in, counter) = (Arc::new(stand_in), Arc::new(AtomicU32::new(kept)));
    loop {
        let (stream, _) = listener.accept().await?;
        let (stand_in, counter) = (stand_in.clone(), counter.clone());
        tokio::spawn(async move {
            if let Err(error) = talk(stream, &stand_in, &counter).await {
                tracing::debug!(%error, "a sender left the mail stand-in");
            }
        });
    }
}

async fn talk(stream: TcpStream, stand_in: &StandIn, counter: &AtomicU32) -> std::io::Result<()> {
    let (read, mut write) = stream.into_split();
    let mut lines = BufReader::new(read).lines();
    write.write_all(b"220 stand-in ready\r\n").await?;
    let (mut sender, mut recipients) = (false, 0_usize);
    while let Some(line) = lines.next_line().await? {
        let command = line.split(' ').next().unwrap_or("").to_ascii_uppercase();
        let answer: &[u8] = match command.as_str() {
            "EHLO" => b"250-stand-in\r\n250 8BITMIME\r\n",
            "HELO" | "NOOP" | "RSET" => b"250 fine\r\n",
            "MAIL" => {
                (sender, recipients) = (true, 0);
                b"250 fine\r\n"
            }
            "RCPT" if sender => {
                recipients += 1;
                b"250 fine\r\n"
            }
            "DATA" if recipients > 0 => {
                write.write_all(b"354 go on, end with a point\r\n").await?;
                let mut text = String::new();
                while let Some(line) = lines.next_line().await? {
                    if line == "." {
                        break;
                    }
                    // A line that begins with a point has one more (RFC 5321, 4.5.2).
                    text.push_str(line.strip_prefix('.').unwrap_or(&line));
                    text.push_str("\r\n");
                    if text.len() > MOST_BYTES {
                        write.write_all(b"552 too long\r\n").await?;
                        return Ok(());
                    }
                }
                let number = counter.fetch_add(1, Ordering::Relaxed) + 1;
                tokio::fs::write(stand_in.folder.join(format!("{number:06}.eml")), text).await?;
                sender = false;
                b"250 kept\r\n"
            }
            "QUIT" => {
                write.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            "RCPT" | "DATA" => b"503 not now\r\n",
            _ => b"500 not known here\r\n",
        };
        write.write_all(answer).await?;
    }
    Ok(())
}
