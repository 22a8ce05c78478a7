//! Signing a seal (Ed25519, RFC 8032): who sealed a box, and that nobody has changed it since.
//!
//! Keys are files as other tools write them: the private one PKCS #8 (RFC 8410), the public one SubjectPublicKeyInfo, both in PEM. The
//! signature is a member beside the seal; it covers every byte of the seal, and so the hash of every file and of the story.

use std::path::Path;

use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{PrivatePkcs8KeyDer, SubjectPublicKeyInfoDer};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::text::hex;
use crate::{Error, Result};

/// The name of the signature inside a box.
pub const SIGNATURE_NAME: &str = "box.sig";

/// What stands before the key in a SubjectPublicKeyInfo of Ed25519 (RFC 8410, section 4).
const PUBLIC_LEAD: [u8; 12] = [0x30, 0x2A, 0x30, 0x05, 0x06, 0x03, 0x2B, 0x65, 0x70, 0x03, 0x21, 0x00];

/// A signature, as it stands in the box.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    /// Who signed, in their own words: nothing proves this but the key.
    pub by: String,
    /// The public key, in hexadecimal.
    pub public_key: String,
    /// The signature over the seal, in hexadecimal.
    pub signature: String,
}

/// A key that signs.
pub struct Signer {
    pair: Ed25519KeyPair,
    by: String,
}

impl std::fmt::Debug for Signer {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "Signer({}, {})", self.by, fingerprint(self.pair.public_key().as_ref()))
    }
}

impl Signer {
    /// Reads a private key from a file.
    ///
    /// # Errors
    /// When the file cannot be read or holds no key of Ed25519.
    pub fn read(path: &Path, by: &str) -> Result<Self> {
        let no_key = |error: &dyn std::fmt::Display| {
            Error::new(format!(
                "{}: no private key of Ed25519 in PEM (openssl genpkey -algorithm ed25519): {error}",
                path.display()
            ))
        };
        let bytes = crate::platform::read_small(path)?;
        let der = PrivatePkcs8KeyDer::from_pem_slice(&bytes).map_err(|error| no_key(&error))?;
        let pair =
            Ed25519KeyPair::from_pkcs8_maybe_unchecked(der.secret_pkcs8_der()).map_err(|error| no_key(&error))?;
        Ok(Self { pair, by: by.to_owned() })
    }

    /// Signs the bytes of a seal.
    pub fn sign(&self, seal: &[u8]) -> Signature {
        Signature {
            by: self.by.clone(),
            public_key: hex(self.pair.public_key().as_ref()),
            signature: hex(self.pair.sign(seal).as_ref()),
        }
    }
}

impl Signature {
    /// Whether it is one over these bytes, by the key that it names.
    pub fn holds(&self, seal: &[u8]) -> bool {
        let (Some(key), Some(signature)) = (from_hex(&self.public_key), from_hex(&self.signature)) else {
            return false;
        };
        UnparsedPublicKey::new(&ED25519, key).verify(seal, &signature).is_ok()
    }

    /// What its key is told from others by, for people who compare it over another way: the start of its SHA-256.
    pub fn fingerprint(&self) -> String {
        fingerprint(&from_hex(&self.public_key).unwrap_or_default())
    }

    /// Whether it was made with the key whose public half a file holds.
    ///
    /// # Errors
    /// When the file cannot be read or holds no public key of Ed25519.
    pub fn is_of(&self, path: &Path) -> Result<bool> {
        let bytes = crate::platform::read_small(path)?;
        let no_key =
            || Error::new(format!("{}: no public key of Ed25519 in PEM (openssl pkey -pubout)", path.display()));
        let der = SubjectPublicKeyInfoDer::from_pem_slice(&bytes).map_err(|_| no_key())?;
        let key = der.as_ref().strip_prefix(&PUBLIC_LEAD).ok_or_else(no_key)?;
        Ok(from_hex(&self.public_key).as_deref() == Some(key))
    }
}

fn fingerprint(key: &[u8]) -> String {
    let hash = hex(&Sha256::digest(key));
    let groups = hash.as_bytes().chunks(4).take(8).map(|group| String::from_utf8_lossy(group).into_owned());
    groups.collect::<Vec<_>>().join(" ")
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    let digit = |byte: u8| char::from(byte).to_digit(16).and_then(|digit| u8::try_from(digit).ok());
    let pairs = text.as_bytes().as_chunks::<2>();
    let bytes = pairs.0.iter().map(|[high, low]| Some(digit(*high)? << 4 | digit(*low)?)).collect();
    if pairs.1.is_empty() { bytes } else { None }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_published() {
        // RFC 8032, section 7.1, test 2.
        let signature = Signature {
            by: String::new(),
            public_key: "3d4017c3e843895a92b70aa74d1b7ebc9c982ccf2ec4968cc0cd55f12af4660c".into(),
            signature: "92a009a9f0d4cab8720e820b5f642540a2b27b5416503f8fb3762223ebdb69da085ac1e43e15996e458f3613d0f11d8c387b2eaeb4302aeeb00d291612bb0c00".into(),
        };
        assert!(signature.holds(&[0x72]) && !signature.holds(&[0x73]));
        let other = Signature { signature: signature.signature.replace("92a0", "92a1"), ..signature };
        assert!(!other.holds(&[0x72]));
    }

    #[test]
    fn keys_of_another_tool() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        let run = |arguments: &[&str]| {
            let status =
                std::process::Command::new("openssl").current_dir(folder.path()).args(arguments).status().unwrap();
            assert!(status.success());
        };
        run(&["genpkey", "-algorithm", "ed25519", "-out", "k.pem"]);
        run(&["pkey", "-in", "k.pem", "-pubout", "-out", "k.pub"]);
        let signature = Signer::read(&path("k.pem"), "night shift").unwrap().sign(b"seal");
        assert!(signature.holds(b"seal") && signature.is_of(&path("k.pub")).unwrap());
        run(&["genpkey", "-algorithm", "ed25519", "-out", "o.pem"]);
        run(&["pkey", "-in", "o.pem", "-pubout", "-out", "o.pub"]);
        assert!(!signature.is_of(&path("o.pub")).unwrap());
        assert!(Signer::read(&path("k.pub"), "x").unwrap_err().to_string().contains("no private key"));
    }
}
