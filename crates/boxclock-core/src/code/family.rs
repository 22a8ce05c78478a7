//! The lists of numbers that codes come from.

use super::Platform;

/// A list of numbers that codes come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Family {
    /// System codes of Windows, sockets and the installer service's results among them.
    Win32,
    /// Results of component calls: severity, facility and code in 32 bits.
    Hresult,
    /// Status values of the Windows kernel.
    NtStatus,
    /// Stop codes of the Windows kernel.
    Stop,
    /// Messages that the installer service writes into its log.
    Msi,
    /// Error numbers of Linux.
    Errno,
    /// Error numbers of macOS.
    ErrnoMacos,
    /// Error numbers of FreeBSD.
    ErrnoFreebsd,
    /// Error numbers of Solaris.
    ErrnoSolaris,
    /// Error numbers of AIX.
    ErrnoAix,
    /// Signals of Linux.
    Signal,
    /// Exit status of a process.
    Exit,
    /// What wait(2) gives: exit status and signal in one number.
    Wait,
    /// Results that the service manager names.
    Result,
    /// Exit status of package managers.
    Package,
    /// HTTP status.
    Http,
    /// SIP status.
    Sip,
    /// Replies of mail servers.
    Smtp,
    /// Replies of FTP servers.
    Ftp,
    /// Alerts of TLS.
    Tls,
    /// Response codes of DNS.
    Dns,
    /// Result codes of LDAP.
    Ldap,
    /// Error codes of Kerberos.
    Kerberos,
    /// Reasons of an SSH disconnect.
    Ssh,
    /// SQLSTATE: five characters, read as a number of base 36.
    SqlState,
    /// `ORA-` and `TNS-` numbers.
    Oracle,
    /// `SQL0911N` and its kind.
    Db2,
    /// Server and client errors of MySQL and MariaDB.
    MySql,
    /// Errors of SQL Server.
    MsSql,
    /// Results of SQLite.
    Sqlite,
    /// Exceptions of Java.
    Java,
    /// Exceptions of .NET.
    DotNet,
    /// Exceptions of Python.
    Python,
    /// Reasons that container runtimes and Kubernetes give.
    Container,
    /// Codes of the user's own catalogues.
    User,
}

/// How the numbers of a family are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// `1603`.
    Decimal,
    /// `0x80070005`.
    Hex,
    /// `42P01`.
    State,
    /// A name; the number is no more than a fingerprint of it.
    Name,
    /// A number with something around it, such as `ORA-00942`.
    Worded,
}

impl Family {
    /// All families, in the order in which several readings of one number are listed.
    pub const ALL: [Self; 35] = [
        Self::Win32,
        Self::Hresult,
        Self::NtStatus,
        Self::Stop,
        Self::Msi,
        Self::Errno,
        Self::Signal,
        Self::Exit,
        Self::Wait,
        Self::Result,
        Self::Package,
        Self::Http,
        Self::Sip,
        Self::Smtp,
        Self::Ftp,
        Self::Tls,
        Self::Dns,
        Self::Ldap,
        Self::Kerberos,
        Self::Ssh,
        Self::SqlState,
        Self::Oracle,
        Self::Db2,
        Self::MySql,
        Self::MsSql,
        Self::Sqlite,
        Self::Java,
        Self::DotNet,
        Self::Python,
        Self::Container,
        Self::ErrnoMacos,
        Self::ErrnoFreebsd,
        Self::ErrnoSolaris,
        Self::ErrnoAix,
        Self::User,
    ];

    /// The name of the JSON contract, and of the catalogue's files.
    pub fn name(self) -> &'static str {
        match self {
            Self::Win32 => "win32",
            Self::Hresult => "hresult",
            Self::NtStatus => "ntstatus",
            Self::Stop => "stop",
            Self::Msi => "msi",
            Self::Errno => "errno",
            Self::ErrnoMacos => "errno-macos",
            Self::ErrnoFreebsd => "errno-freebsd",
            Self::ErrnoSolaris => "errno-solaris",
            Self::ErrnoAix => "errno-aix",
            Self::Signal => "signal",
            Self::Exit => "exit",
            Self::Wait => "wait",
            Self::Result => "result",
            Self::Package => "package",
            Self::Http => "http",
            Self::Sip => "sip",
            Self::Smtp => "smtp",
            Self::Ftp => "ftp",
            Self::Tls => "tls",
            Self::Dns => "dns",
            Self::Ldap => "ldap",
            Self::Kerberos => "kerberos",
            Self::Ssh => "ssh",
            Self::SqlState => "sqlstate",
            Self::Oracle => "oracle",
            Self::Db2 => "db2",
            Self::MySql => "mysql",
            Self::MsSql => "mssql",
            Self::Sqlite => "sqlite",
            Self::Java => "java",
            Self::DotNet => "dotnet",
            Self::Python => "python",
            Self::Container => "container",
            Self::User => "user",
        }
    }

    /// The family of a name of the contract.
    pub fn parse(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|family| family.name() == name)
    }

    /// A plain phrase for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Win32 => "Windows system code",
            Self::Hresult => "component result (HRESULT)",
            Self::NtStatus => "Windows kernel status (NTSTATUS)",
            Self::Stop => "Windows stop code",
            Self::Msi => "message of the Windows installer service",
            Self::Errno => "Linux error number (errno)",
            Self::ErrnoMacos => "macOS error number (errno)",
            Self::ErrnoFreebsd => "FreeBSD error number (errno)",
            Self::ErrnoSolaris => "Solaris error number (errno)",
            Self::ErrnoAix => "AIX error number (errno)",
            Self::Signal => "signal",
            Self::Exit => "exit status",
            Self::Wait => "wait status",
            Self::Result => "result of a service",
            Self::Package => "exit status of a package manager",
            Self::Http => "HTTP status",
            Self::Sip => "SIP status",
            Self::Smtp => "mail server reply (SMTP)",
            Self::Ftp => "FTP reply",
            Self::Tls => "TLS alert",
            Self::Dns => "DNS response code",
            Self::Ldap => "LDAP result",
            Self::Kerberos => "Kerberos error",
            Self::Ssh => "SSH disconnect reason",
            Self::SqlState => "SQLSTATE",
            Self::Oracle => "database error (ORA)",
            Self::Db2 => "database error (SQLCODE)",
            Self::MySql => "database error (MySQL, MariaDB)",
            Self::MsSql => "database error (SQL Server)",
            Self::Sqlite => "database result (SQLite)",
            Self::Java => "Java exception",
            Self::DotNet => ".NET exception",
            Self::Python => "Python exception",
            Self::Container => "container reason",
            Self::User => "code of your own catalogue",
        }
    }

    /// How its numbers are written.
    pub fn form(self) -> Form {
        match self {
            Self::Hresult | Self::NtStatus | Self::Stop => Form::Hex,
            Self::SqlState => Form::State,
            Self::Result | Self::Java | Self::DotNet | Self::Python | Self::Container => Form::Name,
            Self::Oracle | Self::Db2 | Self::User => Form::Worded,
            _ => Form::Decimal,
        }
    }

    /// The number of a code of this family from the text of a catalogue; for named families from the name.
    pub(super) fn parse_number(self, text: &str, name: &str) -> Option<u32> {
        match self.form() {
            Form::State => state_number(text.as_bytes()),
            Form::Name => Some(crc32fast::hash(name.as_bytes())),
            _ => match text.strip_prefix("0x") {
                Some(hex) => u32::from_str_radix(hex, 16).ok(),
                None => text.parse().ok(),
            },
        }
    }

    /// The error numbers of a system; those of Linux where it has none of its own.
    pub fn errno_of(platform: Platform) -> Self {
        match platform {
            Platform::Macos => Self::ErrnoMacos,
            Platform::Freebsd => Self::ErrnoFreebsd,
            Platform::Solaris => Self::ErrnoSolaris,
            Platform::Aix => Self::ErrnoAix,
            _ => Self::Errno,
        }
    }

    /// Whether it is a list of error numbers of some Unix.
    pub fn is_errno(self) -> bool {
        matches!(self, Self::Errno | Self::ErrnoMacos | Self::ErrnoFreebsd | Self::ErrnoSolaris | Self::ErrnoAix)
    }

    /// Whether names of this family are looked for in text as they stand. The others' names are ordinary words.
    pub(super) fn names_in_text(self) -> bool {
        !matches!(self, Self::Http | Self::Sip | Self::Tls | Self::Result | Self::SqlState)
    }
}

/// A SQLSTATE (ISO/IEC 9075: five digits or capitals) as a number of base 36; `None` for anything else.
pub fn state_number(text: &[u8]) -> Option<u32> {
    let good = text.len() == 5 && text.iter().all(|byte| byte.is_ascii_digit() || byte.is_ascii_uppercase());
    let text = std::str::from_utf8(text).ok().filter(|_| good)?;
    u32::from_str_radix(text, 36).ok()
}

/// The five characters of a SQLSTATE number; the inverse of [`state_number`].
pub fn state_text(number: u32) -> String {
    let mut rest = number;
    let mut text = [b'0'; 5];
    for place in text.iter_mut().rev() {
        *place = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"[(rest % 36) as usize];
        rest /= 36;
    }
    text.iter().map(|byte| char::from(*byte)).collect()
}
