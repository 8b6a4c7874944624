//! Emptying the outbox: a few mails at a time, each marked in the transaction in which it was taken.

use diesel_async::AsyncConnection;
use jiff::Timestamp;
use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use vaaka_store::notices::{self, Mail};
use vaaka_store::{Store, StoreError};

/// Mails taken at a time.
const AT_A_TIME: i64 = 20;

/// Where mail goes, and from whom.
#[derive(Debug, Clone)]
pub struct Outgoing {
    /// Host of the mail server.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Sender.
    pub from: String,
    /// Address of the application as people reach it, put before the paths in mails.
    pub address: String,
}

impl Outgoing {
    fn message(&self, mail: &Mail) -> Result<Message, String> {
        let mailbox = |text: &str| text.parse::<Mailbox>().map_err(|error| error.to_string());
        let body = mail.body.replace("In Vaaka: /", &format!("In Vaaka: {}/", self.address));
        Message::builder()
            .from(mailbox(&self.from)?)
            .to(mailbox(&mail.recipient)?)
            .subject(mail.subject.clone())
            .header(ContentType::TEXT_PLAIN)
            .body(body)
            .map_err(|error| error.to_string())
    }

    async fn hand_over(&self, mail: &Mail) -> Result<(), String> {
        let message = self.message(mail)?;
        // Plain, for a mail server on this machine or in this house; that one speaks to the world.
        let transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&self.host)
            .port(self.port)
            .timeout(Some(std::time::Duration::from_secs(10)))
            .build();
        transport.send(message).await.map(|_| ()).map_err(|error| error.to_string())
    }
}

/// Sends what waits; returns how many were handed over. A mail that fails stays in the outbox with
/// what the server said, and is tried again later. Several processes may do this at once.
///
/// # Errors
/// [`StoreError`].
pub async fn send_waiting(
    store: &Store,
    outgoing: &Outgoing,
    now: Timestamp,
) -> Result<usize, StoreError> {
    let mut connection = store.connection().await?;
    connection
        .transaction(async |connection| {
            let mut sent = 0;
            for mail in notices::unsent(connection, now, AT_A_TIME).await? {
                let outcome = outgoing.hand_over(&mail).await;
                sent += usize::from(outcome.is_ok());
                notices::mark(connection, &mail, outcome, now).await?;
            }
            Ok(sent)
        })
        .await
}
