//! What a text of the book may hold. Forms choose their field by it, the reference names it.

/// What a text holds.
pub(crate) trait Holds {
    /// The word for it in the schema; empty for plain words.
    const WORD: &'static str;
}

macro_rules! holds {
    ($($(#[$doc:meta])* $kind:ident $word:literal;)*) => { $(
        $(#[$doc])*
        pub(crate) enum $kind {}

        impl Holds for $kind {
            const WORD: &'static str = $word;
        }
    )* };
}

holds! {
    /// Plain words.
    Words "";
    /// Words with placeholders.
    Template "template";
    /// Text of several lines, with placeholders.
    TextTemplate "text-template";
    /// A web address with placeholders.
    UrlTemplate "url-template";
    /// A mail address, or a placeholder that stands for one.
    AddressTemplate "address-template";
    /// The name of a file, with placeholders.
    NameTemplate "name-template";
    /// A folder of a place, with placeholders.
    FolderTemplate "folder-template";
    /// A folder of a place.
    Folder "folder";
    /// A pattern of names, as in `*.csv`.
    Pattern "pattern";
    /// A pattern of names with placeholders.
    PatternTemplate "pattern-template";
    /// A length of time, as in `1h 30m`.
    Duration "duration";
    /// A number of bytes, as in `200 MB`.
    Size "size";
    /// Bytes a second, as in `4 MB/s`.
    Speed "speed";
    /// A time of day, as in `07:30`.
    TimeOfDay "time-of-day";
    /// A day, as in `2027-03-14`, or a first and a last one.
    Day "day";
    /// A day of the week.
    Weekday "weekday";
    /// A time zone, as in `Europe/London`.
    Zone "zone";
    /// The name of a place.
    PlaceName "place";
    /// The name of a partner.
    PartnerName "partner";
    /// The name of an account.
    AccountName "account";
    /// The name of a calendar.
    CalendarName "calendar";
    /// The name of a database.
    DatabaseName "database";
    /// The name of a twin.
    TwinName "twin";
    /// The name of a rule.
    RuleName "rule";
    /// The title of a branch.
    BranchTitle "branch";
    /// The name of a group of rules, places and twins.
    GroupName "group";
    /// The name of an OpenPGP key.
    KeyName "key";
    /// The name of a secret.
    SecretName "secret-name";
    /// The name of a program of the machine owner's list.
    ProgramName "program";
    /// A web address.
    Url "url";
    /// A host, or an address pasted whole.
    Host "host";
    /// An absolute path of the machine.
    Path "path";
    /// An address or a network, as in `203.0.113.0/24`.
    Network "network";
    /// A public key as a line of OpenSSH's.
    PublicKey "public-key";
    /// A mail address.
    MailAddress "mail-address";
    /// What a server proves itself with, `SHA256:…`.
    Fingerprint "fingerprint";
    /// Text of several lines.
    Lines "lines";
}
