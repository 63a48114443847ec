//! Clients, and what goes over a connection.

use super::*;

#[test]
fn clients_are_followed_while_they_are_looked_at_and_acted_on() {
    let mut s = state();
    let effects = press(&mut s, KeyCode::Char('6'));
    assert!(matches!(&effects[..], [Effect::FollowClients(true)]), "{effects:?}");
    assert!(draw(&mut s, 160, 47).contains("Nobody is connected."));
    let effects = update(&mut s, Message::OnlyClients(0, vec![*client(1, "Imre"), *client(2, "Tove")]));
    assert!(matches!(&effects[..], [Effect::FollowFrames(Some((0, 1)))]), "the first: {effects:?}");
    let delta = r#"{"method":"delta","params":{"changes":[{"op":"replace","key":[13],"changed":["status"]}]}}"#;
    update(&mut s, Message::ClientFrame(0, frame(1, delta)));
    update(&mut s, Message::ClientFrame(0, frame(2, "of somebody else")));
    let left = json!({"at": 9_000_000, "instance": "south", "client": 5, "subject": "Oyelaran", "roles": "agent",
        "what": "disconnected", "why": "it read nothing for 60 s", "sent": 1});
    update(&mut s, Message::Came(1, row(left)));
    for (columns, rows) in [(160, 47), (100, 30)] {
        let screen = draw(&mut s, columns, rows);
        for text in [
            "2 clients",
            "Imre",
            "SELECT Imre FROM calls",
            "replace 13: status",
            "Oyelaran",
            "it read nothing for 60 s",
        ] {
            assert!(screen.contains(text), "{text} at {columns}\n{screen}");
        }
        assert!(!screen.contains("of somebody else"));
    }
    assert!(draw(&mut s, 160, 47).contains("h:7"), "what has been written, where there is room");
    // Whoever is slow stands first, and what is chosen stays chosen.
    update(
        &mut s,
        Message::Client(0, 2, Some(Box::new(ClientRow { waiting: 3, waiting_bytes: 5_000, ..*client(2, "Tove") }))),
    );
    let screen = draw(&mut s, 160, 47);
    let line = |name: &str| screen.lines().position(|l| l.contains(name) && l.contains("control")).unwrap();
    assert!(line("Tove") < line("Imre") && screen.contains("4 KiB (3)"), "{screen}");
    assert_eq!(s.clients.followed, Some((0, 2)), "nobody was chosen: the first is shown");
    press(&mut s, KeyCode::Down);
    assert_eq!(s.clients.followed, Some((0, 1)));
    assert!(matches!(press(&mut s, KeyCode::Char('l'))[..], [Effect::HoldClient { place: 0, client: 1, ms: 10_000 }]));
    update(&mut s, Message::Client(0, 1, Some(Box::new(ClientRow { held_ms: 900, ..*client(1, "Imre") }))));
    assert!(matches!(press(&mut s, KeyCode::Char('l'))[..], [Effect::HoldClient { ms: 0, .. }]));
    // What ends a connection asks first.
    assert!(press(&mut s, KeyCode::Char('d')).is_empty());
    assert!(draw(&mut s, 160, 47).contains("Disconnect Imre"));
    let effects = press(&mut s, KeyCode::Enter);
    assert!(matches!(&effects[..], [Effect::CarryOut(p)] if p.what == Proposed::Disconnect((0, 1))), "{effects:?}");
    update(&mut s, Message::Client(0, 1, None));
    update(&mut s, Message::OnlyClients(0, vec![]));
    assert_eq!(s.clients.followed, None);
    let effects = press(&mut s, KeyCode::Char('1'));
    assert!(matches!(&effects[..], [Effect::FollowClients(false)]), "{effects:?}");
}

#[test]
fn a_frame_that_is_looked_at_stays_while_others_arrive() {
    let mut s = state();
    let log = s.watchers[0].frames.clone();
    let note = |n: u32| log.note(1, Direction::Received, &format!("{{\"frame\":{n}}}"));
    (1..=3).for_each(note);
    press(&mut s, KeyCode::Char('F'));
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 3"), "the newest");
    press(&mut s, KeyCode::Down);
    (4..=9).for_each(note);
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 2"), "the one that was chosen");
    press(&mut s, KeyCode::Char('/'));
    type_text(&mut s, "7");
    press(&mut s, KeyCode::Enter);
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 7"));
    let copied = press(&mut s, KeyCode::Char('y'));
    assert!(matches!(&copied[..], [Effect::Copy(text)] if text == "{\"frame\":7}"), "{copied:?}");
}
