//! Verifying a seal: everything is computed again.

use std::collections::HashSet;
use std::path::Path;

use sha2::{Digest, Sha256};

use super::{CopyError, SEAL_NAME, SIGNATURE_NAME, STORY_NAME, Seal, Signature, copy_hashed, open_zip, read_seal};
use crate::text::hex;
use crate::work::Work;
use crate::{Error, Result};

/// What is wrong with one member.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// `changed`, `missing`, `extra` or `hidden`.
    pub kind: &'static str,
    /// The member.
    pub path: String,
    /// What exactly.
    pub detail: String,
}

/// The result of a check.
#[derive(Clone, Debug)]
pub struct Verdict {
    /// The seal.
    pub seal: Seal,
    /// Who signed it, if somebody did.
    pub signature: Option<Signature>,
    /// What is wrong; empty for a good box.
    pub findings: Vec<Finding>,
}

/// Recomputes size and SHA-256 of every member of a box and compares them with the seal.
///
/// # Errors
/// When the file is no complete ZIP archive, holds no readable seal, or the work is cancelled.
pub fn check(path: &Path, work: &Work) -> Result<Verdict> {
    let mut archive = open_zip(path)?;
    let (seal, seal_bytes) = read_seal(&mut archive, path)?;
    work.set_total(seal.files.iter().map(|file| file.size).sum());
    let mut findings = Vec::new();
    let mut known: HashSet<String> = HashSet::from([SEAL_NAME.to_owned(), STORY_NAME.to_owned()]);
    for file in &seal.files {
        known.insert(file.path.clone());
        let mut finding = |kind, detail: String| findings.push(Finding { kind, path: file.path.clone(), detail });
        let Some(index) = archive.index_for_name(&file.path) else {
            finding("missing", format!("the seal lists it with {} bytes", file.size));
            continue;
        };
        let copied = match archive.by_index(index) {
            Ok(mut member) => copy_hashed(&mut member, &mut std::io::sink(), file.size, work),
            Err(error) => Err(CopyError::Read(std::io::Error::other(error))),
        };
        match copied {
            Ok((size, sha256)) if size == file.size && sha256 == file.sha256 => {}
            Ok((size, _)) if size != file.size => {
                finding("changed", format!("{size} bytes, sealed with {}", file.size));
            }
            Ok(_) => finding("changed", "same size, other content: its SHA-256 is not the sealed one".into()),
            Err(CopyError::TooLarge) => {
                finding("changed", format!("more bytes than the {} that were sealed", file.size));
            }
            Err(CopyError::Read(error) | CopyError::Write(error)) => {
                finding("changed", format!("cannot be unpacked: {error}"));
            }
            Err(CopyError::Cancelled) => work.check()?,
        }
    }
    if let Some(sealed) = &seal.story_sha256 {
        let story = super::read_member(&mut archive, path, STORY_NAME).unwrap_or_default();
        if hex(&Sha256::digest(&story)) != *sealed {
            let detail = "other content: its SHA-256 is not the sealed one".to_owned();
            findings.push(Finding { kind: "changed", path: STORY_NAME.into(), detail });
        }
    }
    let mut signature = None;
    if archive.index_for_name(SIGNATURE_NAME).is_some() {
        known.insert(SIGNATURE_NAME.to_owned());
        let bytes = super::read_member(&mut archive, path, SIGNATURE_NAME)?;
        signature = serde_json::from_slice::<Signature>(&bytes).ok();
        if !signature.as_ref().is_some_and(|signature| signature.holds(&seal_bytes)) {
            let detail = "the signature is not one over this seal".to_owned();
            findings.push(Finding { kind: "changed", path: SIGNATURE_NAME.into(), detail });
        }
    }
    let odd = super::members::oddities(path).map_err(|error| Error::at(path, "cannot read", error))?;
    findings.extend(odd.into_iter().map(|odd| Finding { kind: "hidden", path: odd.path, detail: odd.detail }));
    let names =
        archive.file_names().map(|name| name.map_or_else(|error| error.to_string(), std::borrow::Cow::into_owned));
    let mut extra: Vec<Finding> = names
        .filter(|name| !known.contains(name) && !name.ends_with('/'))
        .map(|path| Finding { kind: "extra", path, detail: "the seal does not list it".into() })
        .collect();
    extra.sort_by(|a, b| a.path.cmp(&b.path));
    findings.extend(extra);
    Ok(Verdict { seal, signature, findings })
}
