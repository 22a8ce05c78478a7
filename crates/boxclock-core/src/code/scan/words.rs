//! The words that make a number a code: which stand in front of it, and what each says.

/// What the words in front of a number say about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Context {
    /// `error`, `failed with`, `hr`…
    Error,
    /// `returned`, `result`, `rc`: a code only where nothing is counted behind it.
    Returned,
    /// `code` alone, or `failed with code`: often a program's own exit.
    Code,
    /// `errno`.
    Errno,
    /// `signal`.
    Signal,
    /// `exit code`, `exit status`, `exited with`.
    Exit,
    /// `status`.
    Status,
    /// `wait status`.
    Wait,
    /// `HTTP`.
    Http,
    /// `SIP/2.0`.
    Sip,
    /// `said`: what a mail server answered.
    Said,
    /// `bugcheck`, `stop code`.
    Stop,
    /// `alert`.
    Alert,
    /// `rcode`.
    Rcode,
    /// `SQLSTATE`.
    SqlState,
    /// `SQLCODE`.
    SqlCode,
    /// `Msg`.
    Msg,
}

impl Context {
    pub(super) fn is_failure_word(self) -> bool {
        matches!(self, Self::Error | Self::Code | Self::Returned | Self::Errno | Self::Exit | Self::Status)
    }
}

/// What may stand between a word and its number.
pub(super) const fn is_joint(byte: u8) -> bool {
    matches!(byte, b' ' | b':' | b'=' | b'(' | b'#' | b'"' | b'\'' | b'[' | b'-')
}

/// The longest word that makes a context.
const CONTEXT_BYTES: usize = 16;

/// A short word as one number, in small letters: comparing is then one step.
const fn key(word: &[u8]) -> u128 {
    let mut key = 0;
    let mut at = 0;
    while at < word.len() && at < CONTEXT_BYTES {
        key = key << 8 | (word[at] | 0x20) as u128;
        at += 1;
    }
    key
}

/// What a word in front of a number does.
#[derive(Clone, Copy)]
enum Effect {
    /// It is passed over.
    Filler,
    /// Like a filler, but a number behind it is a code even if nothing else is found.
    Code,
    /// Like a filler, but a number behind it is a status.
    Status,
    /// It settles what the number is.
    Is(Context),
}

const WORDS: [(Effect, &[&[u8]]); 19] = [
    (Effect::Filler, &[b"is", b"was", b"with", b"of", b"no", b"nr", b"number", b"an"]),
    (Effect::Code, &[b"code", b"codes", b"value"]),
    (Effect::Status, &[b"status"]),
    (
        Effect::Is(Context::Error),
        &[
            b"error",
            b"err",
            b"hr",
            b"hresult",
            b"errorcode",
            b"error_code",
            b"errcode",
            b"exception",
            b"win32error",
            b"getlasterror",
            b"failed",
            b"failure",
            b"lasterror",
            b"fails",
            b"fatal",
        ],
    ),
    (
        Effect::Is(Context::Returned),
        &[
            b"returned",
            b"returns",
            b"return",
            b"returning",
            b"result",
            b"resultcode",
            b"rc",
            b"ret",
            b"retval",
            b"returncode",
            b"return_code",
            b"gave",
        ],
    ),
    (Effect::Is(Context::Errno), &[b"errno", b"os"]),
    (Effect::Is(Context::Signal), &[b"signal", b"sig", b"signo"]),
    (
        Effect::Is(Context::Exit),
        &[
            b"exit",
            b"exited",
            b"exitcode",
            b"exit_code",
            b"exitstatus",
            b"exit_status",
            b"exitvalue",
            b"exiting",
            b"exits",
            b"lpexitcode",
            b"dwexitcode",
        ],
    ),
    (
        Effect::Is(Context::Http),
        &[
            b"http",
            b"http/1.1",
            b"http/1.0",
            b"http/2.0",
            b"http/2",
            b"http/3",
            b"status_code",
            b"statuscode",
            b"response",
            b"httpstatus",
            b"respstatus",
            b"berespstatus",
        ],
    ),
    (Effect::Is(Context::Stop), &[b"bugcheck", b"stop", b"stopcode", b"bugcheckcode"]),
    (Effect::Is(Context::Sip), &[b"sip/2.0"]),
    (Effect::Is(Context::Said), &[b"said"]),
    (Effect::Is(Context::Wait), &[b"wait"]),
    (Effect::Is(Context::Alert), &[b"alert"]),
    (Effect::Is(Context::Rcode), &[b"rcode"]),
    (Effect::Is(Context::SqlState), &[b"sqlstate", b"state_code"]),
    (Effect::Is(Context::SqlCode), &[b"sqlcode"]),
    (Effect::Is(Context::Msg), &[b"msg"]),
    (Effect::Is(Context::Http), &[b"sc_status"]),
];

/// A small open hash table over [`WORDS`]: nearly every number of every log asks it once.
static EFFECTS: [(u128, Effect); 256] = {
    let mut table = [(0, Effect::Filler); 256];
    let mut group = 0;
    while group < WORDS.len() {
        let (effect, words) = WORDS[group];
        let mut index = 0;
        while index < words.len() {
            let key = key(words[index]);
            let mut slot = slot(key);
            while table[slot].0 != 0 {
                slot = (slot + 1) % 256;
            }
            table[slot] = (key, effect);
            index += 1;
        }
        group += 1;
    }
    table
};

/// For the last three bytes of each word of [`WORDS`] one bit; for a word of two, whatever stands before it.
static ENDINGS: [u64; 512] = {
    let mut table = [0; 512];
    let mut group = 0;
    while group < WORDS.len() {
        let words = WORDS[group].1;
        let mut index = 0;
        while index < words.len() {
            let word = words[index];
            let length = word.len();
            let mut third = 0;
            while third < 32 {
                if length == 2 || word[length - 3] & 31 == third {
                    let at = ending(third, word[length - 2], word[length - 1]);
                    table[at / 64] |= 1 << (at % 64);
                }
                third += 1;
            }
            index += 1;
        }
        group += 1;
    }
    table
};

/// The place of an ending in [`ENDINGS`]: the five bits of a letter that are the same in capitals.
const fn ending(third: u8, second: u8, last: u8) -> usize {
    (third as usize & 31) << 10 | (second as usize & 31) << 5 | last as usize & 31
}

/// Whether the last three bytes of something could end a context word.
#[inline]
fn ends_context_word(third: u8, second: u8, last: u8) -> bool {
    let at = ending(third, second, last);
    ENDINGS[at / 64] >> (at % 64) & 1 == 1
}

/// Whether what stands before a number could be a context word: a look at three bytes.
pub(super) fn context_word_before(text: &[u8], start: usize) -> bool {
    let mut at = start;
    while at > 0 && start - at < 4 && is_joint(text[at - 1]) {
        at -= 1;
    }
    if at == start || at < 2 {
        return false;
    }
    ends_context_word(if at > 2 { text[at - 3] } else { 0 }, text[at - 2], text[at - 1])
}

/// [`context_word_before`] at a glance, too often true: by the four bytes in front of a number, of which the nearest is
/// taken for a joint. Where the second one is a joint too, the word stands farther ahead.
#[inline]
pub(super) fn may_follow_context([fourth, third, second, _]: [u8; 4]) -> bool {
    ends_context_word(fourth, third, second) | JOINTS[usize::from(second)]
}

/// For each byte, whether it may stand between a word and its number.
static JOINTS: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < 256 {
        table[byte] = is_joint(byte as u8);
        byte += 1;
    }
    table
};

const fn slot(key: u128) -> usize {
    (((key ^ (key >> 64)) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56) as usize
}

fn effect(key: u128) -> Option<Effect> {
    let mut slot = slot(key);
    loop {
        match EFFECTS[slot] {
            (0, _) => return None,
            (found, effect) if found == key => return Some(effect),
            _ => slot = (slot + 1) % 256,
        }
    }
}

/// The context that the words right in front of `end` make: up to four words, filler words skipped.
pub(super) fn context(text: &[u8], end: usize) -> Option<Context> {
    let mut at = end;
    let mut status = false;
    let mut code = false;
    for step in 0..4 {
        let mut gap = 0;
        while at > 0 && gap < 3 && is_joint(text[at - 1]) {
            at -= 1;
            gap += 1;
        }
        // Words must be joined to the number by something.
        if gap == 0 && step == 0 {
            return None;
        }
        let word_end = at;
        while at > 0 && word_end - at <= CONTEXT_BYTES {
            let byte = text[at - 1];
            let version = word_end - at < 3 && byte.is_ascii_digit();
            // A point belongs to `HTTP/1.1`; else it parts names: `result.code` ends with the word "code".
            let point = byte == b'.' && text.get(at).is_some_and(u8::is_ascii_digit);
            if !(byte.is_ascii_alphabetic() || version || point || matches!(byte, b'/' | b'_')) {
                break;
            }
            at -= 1;
        }
        if at == word_end || word_end - at > CONTEXT_BYTES {
            break;
        }
        match effect(key(&text[at..word_end])) {
            Some(Effect::Filler) => {}
            Some(Effect::Code) => code = true,
            Some(Effect::Status) => status = true,
            // "wait 139" is none, "wait status 139" is one.
            Some(Effect::Is(Context::Wait)) if !status => break,
            Some(Effect::Is(Context::Error))
                if code && text[at..word_end].to_ascii_lowercase().starts_with(b"fail") =>
            {
                return Some(Context::Code);
            }
            Some(Effect::Is(context)) => return Some(context),
            None => break,
        }
    }
    match (status, code) {
        (true, _) => Some(Context::Status),
        (_, true) => Some(Context::Code),
        _ => None,
    }
}

/// Whether a word stands in the bytes right before `end`, without regard to case. `word` is in small letters.
pub(super) fn near_before(text: &[u8], end: usize, reach: usize, word: &[u8]) -> bool {
    let before = &text[end.saturating_sub(reach)..end.min(text.len())];
    before.windows(word.len()).any(|window| window.eq_ignore_ascii_case(word))
}
