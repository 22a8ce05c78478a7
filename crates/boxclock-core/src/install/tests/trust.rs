//! Signatures and certificates that runs refuse, as logs of several programs tell it.

use super::*;

/// Of each refusal: signer, thumbprint, end, store, line.
fn told(files: &[(&str, &str)]) -> Vec<String> {
    let found = runs(files);
    let text = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    let refusals = found.iter().flat_map(|run| &run.trust);
    refusals
        .map(|one| {
            let (signer, print) = (text(&one.signer), text(&one.thumbprint));
            format!("{signer} | {print} | {} | {} | {}", text(&one.valid_until), text(&one.store), one.place.line)
        })
        .collect()
}

#[test]
fn an_updater_that_names_all_of_it() {
    let log = stamped(&[
        "INFO Starting update of Tankwarden Console 5.0.2",
        "INFO downloading console-5.0.2.pkg",
        "INFO signer: CN=Saltmere Releases 2026, O=Saltmere",
        "INFO thumbprint 4F:0C:2B:7D:9E:1A:8B:3C:5D:6E:7F:80:91:A2:B3:C4:D5:E6:F7:08",
        "INFO valid until 2028-03-01T00:00:00Z",
        "ERROR signature of console-5.0.2.pkg could not be verified: certificate not found in LocalMachine\\TrustedPublisher",
        "ERROR Update failed with exit code 0x800B0109",
    ]);
    assert_eq!(
        told(&[("keeper-desk/console-update.log", &log)]),
        [
            "CN=Saltmere Releases 2026, O=Saltmere | 4F0C2B7D9E1A8B3C5D6E7F8091A2B3C4D5E6F708 | 2028-03-01T00:00:00Z | LocalMachine\\TrustedPublisher | 6"
        ]
    );
}

#[test]
fn package_sources_signed_with_a_key_that_is_unknown_or_over() {
    let log = stamped(&[
        "INFO Starting installation of level-tools",
        "Get:1 http://packages.saltmere.example stable InRelease [12 kB]",
        "Err:1 http://packages.saltmere.example stable InRelease",
        "  The following signatures couldn't be verified because the public key is not available: NO_PUBKEY 3B4FE6ACC0B21F32",
        "W: GPG error: http://tools.saltmere.example stable InRelease: The following signatures were invalid: EXPKEYSIG 9A1B2C3D4E5F6071 Saltmere Tools <tools@saltmere.example>",
        "E: The repository is not signed.",
        "ERROR Installation failed with exit code 100",
    ]);
    let told = told(&[("pump-ctl/install.log", &log)]);
    assert_eq!(told[0], "- | 3B4FE6ACC0B21F32 | - | - | 4");
    assert_eq!(told[1], "Saltmere Tools <tools@saltmere.example> | 9A1B2C3D4E5F6071 | - | - | 5");
    assert_eq!(told.len(), 2, "{told:?}");
}

#[test]
fn drivers_and_downloads() {
    let driver = stamped(&[
        "INFO Starting installation of dosing driver 2.1",
        "INFO Signer Name: Saltmere Hardware",
        "ERROR Error 0x800b0109: A certificate chain processed, but terminated in a root certificate which is not trusted by the trust provider.",
        "ERROR Installation failed with exit code 1",
    ]);
    assert_eq!(told(&[("desk/driver-setup.log", &driver)]), ["Saltmere Hardware | - | - | - | 3"]);
    let download = stamped(&[
        "INFO Starting installation of level-agent 7",
        "ERROR download failed: SSL certificate problem: unable to get local issuer certificate (issued to: feeds.saltmere.example, expires on 2026-04-11)",
        "ERROR Installation failed with exit code 60",
    ]);
    assert_eq!(told(&[("gw/install.log", &download)]), ["feeds.saltmere.example | - | 2026-04-11 | - | 2"]);
}

#[test]
fn healthy_runs_refuse_nothing_and_a_later_run_that_passes_is_named() {
    let good = |minute: u32| {
        format!(
            "2026-04-12T03:{minute:02}:00Z INFO Starting update of Tankwarden Console 5.0.2\n\
             2026-04-12T03:{minute:02}:01Z INFO signature of console-5.0.2.pkg is valid, signer: Saltmere Releases\n\
             2026-04-12T03:{minute:02}:02Z INFO certificate was verified, it expires on 2028-03-01\n\
             2026-04-12T03:{minute:02}:03Z INFO Update completed successfully\n"
        )
    };
    assert!(told(&[("desk/console-update.log", &good(1))]).is_empty());
    let bad = "2026-04-12T02:00:00Z INFO Starting update of Tankwarden Console 5.0.2\n\
               2026-04-12T02:00:01Z ERROR invalid signature: signer \"Saltmere Releases\" is not trusted\n\
               2026-04-12T02:00:02Z ERROR Update failed with exit code 3\n";
    let found = runs(&[("desk/console-update.log", &format!("{bad}{}", good(9)))]);
    let failed = found.iter().find(|run| !run.trust.is_empty()).unwrap();
    assert!(failed.summary.contains("A signature of Saltmere Releases was refused"), "{}", failed.summary);
    assert!(failed.summary.contains("A later run passed"), "{}", failed.summary);
    let json = failed.json(1);
    assert_eq!((&json["trust"][0]["signer"], &json["trust"][0]["line"]), (&json!("Saltmere Releases"), &json!(2)));
    assert_eq!(json["trust"][0]["host"], json!("desk"));
}

#[test]
fn the_old_certificate_and_the_codes_of_the_same_refusal_stand_beside_it() {
    let update = stamped(&[
        "INFO Starting update of Tankwarden Console 5.0.1",
        "INFO signer: CN=Saltmere Releases 2025, O=Saltmere",
        "INFO thumbprint 11:0C:2B:7D:9E:1A:8B:3C:5D:6E:7F:80:91:A2:B3:C4:D5:E6:F7:08",
        "INFO valid until 2026-04-30T00:00:00Z",
        "INFO signature is valid",
        "INFO Update finished successfully",
        "INFO Starting update of Tankwarden Console 5.0.2",
        "INFO signer: CN=Saltmere Releases 2026, O=Saltmere",
        "INFO thumbprint 4F:0C:2B:7D:9E:1A:8B:3C:5D:6E:7F:80:91:A2:B3:C4:D5:E6:F7:08",
        "ERROR signature of console-5.0.2.pkg could not be verified, error 0x800B0109",
        "ERROR Update failed with exit code 0x800B0109",
    ]);
    let service = update.lines().nth(9).and_then(|line| line.get(..19)).map(|time| {
        format!("{time} ERROR [fetch] proxy - secure channel refused, error 0x80072F8F\n{time} INFO [fetch] proxy - went on\n")
    });
    let found = runs(&[("keeper-desk/console-update.log", &update), ("keeper-desk/proxy.log", &service.unwrap())]);
    let refused = found.iter().find(|run| !run.trust.is_empty()).unwrap();
    let refusal = &refused.trust[0];
    let accepted = refusal.accepted.as_ref().unwrap();
    assert_eq!(accepted.thumbprint.as_deref(), Some("110C2B7D9E1A8B3C5D6E7F8091A2B3C4D5E6F708"));
    assert_eq!((accepted.valid_until.as_deref(), accepted.place.line), (Some("2026-04-30T00:00:00Z"), 5));
    let codes: Vec<(&str, u64)> = refusal.codes.iter().map(|(code, place)| (code.as_str(), place.line)).collect();
    assert_eq!(codes, [("0x800B0109", 10), ("0x80072F8F", 1)]);
    assert!(refused.summary.contains("call it 0x800B0109, 0x80072F8F"), "{}", refused.summary);
}
