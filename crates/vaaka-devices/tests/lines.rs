//! Lines with what can happen to them: over a pair of ends in memory with a clock that stands still, over TCP, over a
//! pseudo-terminal.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use async_trait::async_trait;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, duplex};
use tokio::net::TcpListener;
use tokio::time::{Instant, sleep};
use vaaka_devices::read::{STALE, read_from};
use vaaka_devices::stand_in::{Display, Shows, Speech, Trouble, serve, speak};
use vaaka_devices::{Address, Answer, LinkError, Ready, read};

/// A stand-in that shows one thing after the other, and the last of them for good.
struct Fixed {
    speech: Speech,
    trouble: Trouble,
    shown: Vec<Display>,
    place: AtomicU64,
    press: bool,
}

impl Fixed {
    fn new(speech: Speech, trouble: Trouble, shown: &[(&str, bool)]) -> Self {
        let display = |(text, steady): &(&str, bool)| Display {
            text: (*text).into(),
            unit: "kg".into(),
            steady: *steady,
        };
        let shown = shown.iter().map(display).collect();
        Self { speech, trouble, shown, place: AtomicU64::new(0), press: true }
    }
}

#[async_trait]
impl Shows for Fixed {
    fn speech(&self) -> Speech {
        self.speech
    }
    fn trouble(&self) -> Trouble {
        self.trouble
    }
    async fn display(&self) -> Display {
        let place = usize::try_from(self.place.fetch_add(1, Ordering::SeqCst)).unwrap();
        self.shown[place.min(self.shown.len() - 1)].clone()
    }
    async fn file(&self) -> Vec<u8> {
        b"nm,A\n500,0.1\n501,0.2\n".to_vec()
    }
    async fn pressed(&self) -> u64 {
        if !self.press {
            std::future::pending::<()>().await;
        }
        sleep(Duration::from_millis(700)).await;
        3
    }
}

/// Reads a stand-in over two ends in memory.
async fn of(shows: Fixed) -> Result<Answer, LinkError> {
    let link = shows.speech.link("kg").ready().unwrap();
    let (mut own, mut its) = duplex(4096);
    let speaking = tokio::spawn(async move {
        let _ = speak(&mut its, &shows).await;
    });
    let until = Instant::now() + Duration::from_millis(link.link.timeout_ms.into());
    let answer = read_from(&mut own, &link, (until, STALE)).await;
    speaking.abort();
    answer
}

fn value(answer: Result<Answer, LinkError>) -> String {
    match answer {
        Ok(Answer::Number { reading, .. }) => reading.value.to_string(),
        Ok(Answer::File { bytes }) => String::from_utf8(bytes).unwrap(),
        Err(error) => format!("no: {error}"),
    }
}

#[tokio::test(start_paused = true)]
async fn each_way_of_speaking_is_read() {
    for speech in [Speech::Words, Speech::Numbered, Speech::Signs, Speech::Query] {
        let shown = value(of(Fixed::new(speech, Trouble::None, &[("20.016", true)])).await);
        assert_eq!(shown, "20.016", "{speech:?}");
    }
    let table = of(Fixed::new(Speech::Table, Trouble::None, &[("0", true)])).await;
    assert_eq!(value(table), "nm,A\n500,0.1\n501,0.2\n");
}

/// What still moves is waited for, and what never stands is told.
#[tokio::test(start_paused = true)]
async fn a_display_is_waited_for() {
    let moving = [("19.8", false), ("20.010", false), ("20.016", true), ("9", true)];
    assert_eq!(value(of(Fixed::new(Speech::Words, Trouble::None, &moving)).await), "20.016");
    // Stable by its sign, but another number each time: it has to stand for a while.
    let creeping = [("1.0", true), ("1.1", true), ("1.2", true), ("1.3", true)];
    assert_eq!(value(of(Fixed::new(Speech::Signs, Trouble::None, &creeping)).await), "1.3");
    for speech in [Speech::Words, Speech::Signs] {
        let never = of(Fixed::new(speech, Trouble::None, &[("7.0", false)])).await;
        assert_eq!(never.clone().unwrap_err(), LinkError::Unstable { last: "7.0 kg".into() });
    }
}

#[tokio::test(start_paused = true)]
async fn troubles_are_told_and_nothing_is_taken() {
    for speech in [Speech::Words, Speech::Numbered, Speech::Signs, Speech::Query, Speech::Table] {
        let with = |trouble| of(Fixed::new(speech, trouble, &[("20.016", true)]));
        let broken = with(Trouble::Unplugged).await.unwrap_err();
        assert!(matches!(broken, LinkError::Broken { .. }), "{speech:?}: {broken}");
        let garbage = with(Trouble::Garbage).await.unwrap_err();
        assert!(
            matches!(garbage, LinkError::NoValue { .. } | LinkError::NoBlock(_)),
            "{speech:?}: {garbage}"
        );
        let mute = with(Trouble::Mute).await.unwrap_err();
        let silent = matches!(mute, LinkError::Silent(_) | LinkError::NoKey(_));
        assert!(silent, "{speech:?}: {mute}");
        // Slow is only slow; of what streams the first line is not taken, so that two must come within the time.
        let slow = with(Trouble::Slow).await;
        assert_eq!(slow.is_ok(), speech != Speech::Signs, "{speech:?}: {slow:?}");
    }
    let nobody =
        Fixed { press: false, ..Fixed::new(Speech::Numbered, Trouble::None, &[("1", true)]) };
    assert_eq!(of(nobody).await.unwrap_err(), LinkError::NoKey("20 s".into()));
}

/// Sends bytes by hand to a link and closes the line behind them.
async fn sent(link: &Ready, bytes: &[u8]) -> Result<Answer, LinkError> {
    let (mut own, mut its): (DuplexStream, DuplexStream) = duplex(64 * 1024);
    let bytes = bytes.to_vec();
    let asks = !link.ask.is_empty();
    let sending = tokio::spawn(async move {
        if asks {
            let mut question = [0_u8; 64];
            let _ = its.read(&mut question).await;
        } else {
            // Behind what is thrown away from before.
            sleep(Duration::from_millis(40)).await;
        }
        let _ = its.write_all(&bytes).await;
    });
    let until = Instant::now() + Duration::from_millis(link.link.timeout_ms.into());
    let answer = read_from(&mut own, link, (until, STALE)).await;
    sending.await.unwrap();
    answer
}

/// A cable that is pulled behind any byte gives no value; a byte that is wrong gives the right value or none.
#[tokio::test(start_paused = true)]
async fn faults_at_every_byte() {
    for speech in [Speech::Words, Speech::Numbered, Speech::Query] {
        let link = speech.link("kg").ready().unwrap();
        let display = Display { text: "20.016".into(), unit: "kg".into(), steady: true };
        let whole = display.line(speech, 7).into_bytes();
        assert_eq!(value(sent(&link, &whole).await), "20.016");
        // Its end is carriage return and line feed: from the first of them on the line is whole.
        let body = whole.trim_ascii_end().len();
        for cut in 0..=body {
            let answer = sent(&link, &whole[..cut]).await;
            assert!(matches!(answer, Err(LinkError::Broken { .. })), "{speech:?} cut at {cut}");
        }
        for place in 0..body {
            for wrong in [0x00, 0x1b, b'?', b' ', b'x', 0xff] {
                let mut bytes = whole.clone();
                bytes[place] = wrong;
                if let Ok(Answer::Number { reading, raw }) = sent(&link, &bytes).await {
                    // A blank or a letter in the place of a unit's letter is another unit, which the step refuses.
                    let unit = reading.unit.as_deref() == Some("kg");
                    let same = reading.value.to_string() == "20.016";
                    assert!(
                        same || !unit,
                        "{speech:?} {place}: {:?}",
                        String::from_utf8_lossy(&raw)
                    );
                }
            }
        }
    }
}

#[tokio::test(start_paused = true)]
async fn what_came_before_the_question_is_nobodys() {
    let link = Speech::Words.link("kg").ready().unwrap();
    let (mut own, mut its) = duplex(64 * 1024);
    // An answer that somebody else asked for lies there.
    its.write_all(b"gross +1.000 kg steady\r\n").await.unwrap();
    let sending = tokio::spawn(async move {
        let mut question = [0_u8; 64];
        let n = its.read(&mut question).await.unwrap();
        // It echoes what it is asked, and says two things that are no value.
        its.write_all(&question[..n]).await.unwrap();
        its.write_all(b"\r\n\r\nbusy\r\n").await.unwrap();
        let _ = its.read(&mut question).await.unwrap();
        its.write_all(b"gross +2.000 kg steady\r\n").await.unwrap();
        its
    });
    let until = Instant::now() + Duration::from_secs(4);
    assert_eq!(value(read_from(&mut own, &link, (until, STALE)).await), "2.000");
    drop(sending.await.unwrap());
}

/// A line that is on its way when somebody begins to listen is not taken: what is left of it would be a smaller number.
#[tokio::test(start_paused = true)]
async fn the_rest_of_a_line_is_no_line() {
    for way in [Speech::Numbered, Speech::Words] {
        let mut described = way.link("kg");
        // The plainest pattern there is: the rest of a line fits it, too.
        described.pattern = r"(?<value>\d+\.\d+) (?<unit>kg)".into();
        described.stable_mark = String::new();
        let link = described.ready().unwrap();
        let (mut own, mut its) = duplex(64 * 1024);
        its.write_all(b"2").await.unwrap();
        let sending = tokio::spawn(async move {
            sleep(Duration::from_millis(30)).await;
            its.write_all(b"0.016 kg\r\n").await.unwrap();
            sleep(Duration::from_millis(300)).await;
            its.write_all(b"20.017 kg\r\n").await.unwrap();
            its
        });
        let until = Instant::now() + Duration::from_secs(4);
        assert_eq!(value(read_from(&mut own, &link, (until, STALE)).await), "20.017", "{way:?}");
        drop(sending.await.unwrap());
    }
}

/// A flood without an end fills no memory and holds nobody: the time is over when it is over.
#[tokio::test(start_paused = true)]
async fn a_flood_ends_with_the_time() {
    let link = Speech::Signs.link("kg").ready().unwrap();
    let (mut own, mut its) = duplex(4096);
    let flood = tokio::spawn(async move {
        loop {
            if its.write_all(&[b'9'; 512]).await.is_err() {
                break;
            }
            sleep(Duration::from_millis(1)).await;
        }
    });
    let until = Instant::now() + Duration::from_secs(4);
    let answer = read_from(&mut own, &link, (until, STALE)).await;
    assert_eq!(answer, Err(LinkError::Silent("4 s".into())));
    flood.abort();
}

#[tokio::test]
async fn over_tcp_and_where_nobody_listens() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let shows = Arc::new(Fixed::new(Speech::Words, Trouble::None, &[("20.016", true)]));
    let serving = tokio::spawn(serve(listener, shows));
    let address: Address = format!("127.0.0.1:{port}").parse().unwrap();
    let link = Speech::Words.link("kg").ready().unwrap();
    assert_eq!(value(read(&address, &link).await), "20.016");
    serving.abort();
    let _ = serving.await;
    let nobody = read(&address, &link).await.unwrap_err();
    assert!(nobody.to_string().contains("connection refused"), "{nobody}");
}

/// A serial line, over a pseudo-terminal.
#[cfg(unix)]
#[tokio::test]
async fn over_a_serial_line() {
    use tokio_serial::{SerialPort, SerialStream};
    let (mut its, own) = SerialStream::pair().unwrap();
    let path = own.name().unwrap();
    let speaking = tokio::spawn(async move {
        let shows = Fixed::new(Speech::Words, Trouble::None, &[("20.016", true)]);
        let _ = speak(&mut its, &shows).await;
    });
    let address: Address = format!("{path} 9600 8N1").parse().unwrap();
    let link = Speech::Words.link("kg").ready().unwrap();
    // The other end is held open here, or the terminal would be gone; a line that is held is busy.
    drop(own);
    let answer = read(&address, &link).await;
    assert_eq!(value(answer), "20.016");
    speaking.abort();
}
