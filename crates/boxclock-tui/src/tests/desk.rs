//! The desk (Collect): gathering, capturing and receiving, to the end of each task.

use boxclock_core::Error;
use boxclock_core::gather::DiskUse;

use super::*;

/// Waits until the task is as far as that.
fn task_settles(screen: &mut Screen, done: impl Fn(&Collecting) -> bool) {
    let until = std::time::Instant::now() + std::time::Duration::from_secs(30);
    loop {
        screen.settle();
        let tasks = &screen.app.view_of::<CollectView>().tasks;
        if done(tasks) {
            break;
        }
        assert!(std::time::Instant::now() < until, "{:?}", tasks.status());
        screen.take_one();
    }
    screen.settle();
}

#[test]
fn the_desk_gathers_and_opens_the_box() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", APP)]);
    let folder = screen.folder.path().to_path_buf();
    screen.keys("b");
    assert!(screen.draw(120, 30).contains("v previews what would be gathered"));
    // Nothing named yet: said in words, nothing begun.
    screen.keys("r");
    assert!(screen.draw(120, 30).contains("enter what to gather"), "{}", screen.draw(120, 30));
    let logs = folder.join("hosts/pump-ctl");
    let into = folder.join("night.box.zip");
    let tasks = &mut screen.app.view_of::<CollectView>().tasks;
    let mut fill = |key, text: String| tasks.set(key, text, &boxclock_core::clock::Zone::utc()).unwrap();
    fill("hosts", format!("pump-ctl=\"{}\" gone=/no/such/place", logs.display()));
    fill("recipes", "all".into());
    fill("moment", "2026-04-12 02:30".into());
    fill("into", into.display().to_string());
    screen.keys("v");
    task_settles(&mut screen, |tasks| tasks.running.is_none());
    assert!(screen.draw(120, 30).contains("no such file or folder: /no/such/place"));
    screen.fill("hosts", format!("pump-ctl=\"{}\"", logs.display()));
    screen.keys("v");
    task_settles(&mut screen, |tasks| tasks.running.is_none());
    let last = screen.app.view_of::<CollectView>().tasks.log.last().unwrap().1.clone();
    assert_eq!(last, format!("1 file, {} bytes, 0 commands; nothing was copied or run", APP.len()));
    screen.keys("r");
    task_settles(&mut screen, |tasks| tasks.output.is_some());
    let drawn = screen.draw(160, 30);
    for part in [
        "● pump-ctl",
        "1 of 1 file",
        "does it cover 2026-04-12 02:20:00 to 2026-04-12 02:40:00",
        "done; o opens the result",
    ] {
        assert!(drawn.contains(part), "lacks {part:?}:\n{drawn}");
    }
    screen.keys("o");
    let path = screen.app.cx.next.take().unwrap();
    screen.app.cx.open_next(path, DiskUse::Share);
    while screen.app.cx.view.case.seal.is_none() || !screen.app.cx.view.loaded.complete {
        screen.take_one();
    }
    screen.settle();
    assert!(screen.app.cx.view.case.seal.is_some());
    assert_eq!(screen.app.cx.view.loaded.table.len(), 3, "cut to the window");
    // And what is in it can be handed on.
    screen.keys("blll");
    assert_eq!(screen.app.view_of::<CollectView>().tasks.task(), crate::collecting::Task::Redact);
    screen.fill("words", "valves");
    screen.keys("v");
    task_settles(&mut screen, |tasks| tasks.running.is_none());
    assert!(screen.draw(160, 30).contains("1 place"), "{}", screen.draw(160, 30));
    screen.keys("r");
    task_settles(&mut screen, |tasks| tasks.running.is_none());
    assert!(folder.join("night-redacted.box.zip").exists(), "{:?}", screen.app.view_of::<CollectView>().tasks.log);
}

#[test]
fn the_desk_captures_what_is_written_meanwhile() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", APP)]);
    let folder = screen.folder.path().to_path_buf();
    let log = folder.join("hosts/pump-ctl/app.log");
    screen.keys("bl");
    screen.fill("hosts", format!("pump-ctl={}", folder.join("hosts/pump-ctl").display()));
    screen.fill("recipes", "all");
    screen.fill("into", folder.join("x.box.zip").display().to_string());
    screen.keys("r");
    task_settles(&mut screen, |tasks| tasks.status().starts_with("capturing"));
    let mut file = std::fs::File::options().append(true).open(log).unwrap();
    std::io::Write::write_all(&mut file, b"2026-04-12 02:50:00 ERROR [main] valves - again\n").unwrap();
    screen.keys("r");
    task_settles(&mut screen, |tasks| tasks.output.is_some());
    assert!(
        screen.app.view_of::<CollectView>().tasks.log[0].1.contains("1 file, 48 bytes"),
        "{:?}",
        screen.app.view_of::<CollectView>().tasks.log
    );
}

#[test]
fn the_desk_receives_until_it_is_stopped() {
    let mut screen = Screen::of(&[]);
    let into = screen.folder.path().join("received");
    screen.keys("bll");
    for (key, text) in [("folder", into.display().to_string()), ("udp", "0".into()), ("tcp", String::new())] {
        screen.fill(key, text);
    }
    screen.keys("r");
    let line = screen.app.view_of::<CollectView>().tasks.log[0].1.clone();
    let address = line.strip_prefix("listening on UDP ").unwrap().to_owned();
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.send_to(b"<131>Apr 12 02:31:07 dose-gw bridge: NAK", address).unwrap();
    task_settles(&mut screen, |tasks| tasks.status().contains("1 message saved"));
    screen.keys("x");
    task_settles(&mut screen, |tasks| tasks.running.is_none());
    assert!(screen.app.view_of::<CollectView>().tasks.log[0].1.contains("1 message saved"));
    assert_eq!(screen.app.view_of::<CollectView>().tasks.output.as_deref(), Some(into.as_path()));
}

#[test]
fn a_box_that_takes_more_than_its_share_of_the_disk_is_a_question() {
    let mut screen = Screen::of(&[("pump-ctl/app.log", APP)]);
    let other = screen.folder.path().join("hosts/pump-ctl");
    let refused = Error::NoRoom {
        path: "other.box.zip".into(),
        needed_bytes: 90,
        free_bytes: 100,
        folder: "/cache/boxes".into(),
    };
    let ask = |screen: &mut Screen| {
        screen.app.cx.question = Some(crate::context::events::room_menu(&refused, other.clone()));
        screen.key(KeyCode::Esc);
        screen.shows((160, 40), &["unpack it anyway", "do not open it", "takes 90 bytes"]);
    };
    ask(&mut screen);
    let before = screen.app.cx.view.case.name.clone();
    screen.key(KeyCode::Enter);
    assert_eq!(screen.app.cx.view.case.name, before, "the first answer is no");
    ask(&mut screen);
    screen.key(KeyCode::Down);
    screen.key(KeyCode::Enter);
    while screen.app.cx.view.case.name == before {
        screen.take_one();
    }
    assert_eq!(screen.app.cx.view.case.name, "pump-ctl");
}
