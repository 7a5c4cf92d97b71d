//! Archives, good and hostile.

use super::*;
use flate2::Compression;
use flate2::write::GzEncoder;
use rstest::rstest;
use std::fs;
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, SystemTime};
use tar::{Builder, EntryType, Header};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

type Entries<'a> = &'a [(EntryType, &'a str, &'a str)];

const DIR: EntryType = EntryType::Directory;
const FILE: EntryType = EntryType::Regular;
const SYM: EntryType = EntryType::Symlink;
const HARD: EntryType = EntryType::Link;

/// A tarball of these entries: kind, path, and contents or link target. Names are written raw,
/// as the builder of the tar crate refuses hostile ones.
fn tarball(entries: Entries<'_>) -> Vec<u8> {
    tarball_with(entries, |_| {})
}

/// A tarball of these entries, each header changed before it is sealed.
fn tarball_with(entries: Entries<'_>, change: impl Fn(&mut Header)) -> Vec<u8> {
    let mut builder = Builder::new(Vec::new());
    for (kind, path, data) in entries {
        let mut header = Header::new_ustar();
        header.as_mut_bytes()[..path.len()].copy_from_slice(path.as_bytes());
        header.set_entry_type(*kind);
        header.set_mode(0o755);
        header.set_mtime(1_700_000_000);
        let contents: &[u8] = match *kind {
            FILE => data.as_bytes(),
            _ => b"",
        };
        if matches!(*kind, SYM | HARD) {
            header.as_mut_bytes()[157..157 + data.len()].copy_from_slice(data.as_bytes());
        }
        header.set_size(contents.len() as u64);
        change(&mut header);
        header.set_cksum();
        builder.append(&header, contents).unwrap();
    }
    builder.into_inner().unwrap()
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

/// A zip archive of these entries.
fn zipped(entries: Entries<'_>) -> Vec<u8> {
    zipped_with(entries, 0o755)
}

fn zipped_with(entries: Entries<'_>, mode: u32) -> Vec<u8> {
    let mut writer = ZipWriter::new(io::Cursor::new(Vec::new()));
    let options = SimpleFileOptions::default().unix_permissions(mode);
    for (kind, path, data) in entries {
        match *kind {
            DIR => writer.add_directory(*path, options).unwrap(),
            SYM => writer.add_symlink(*path, *data, options).unwrap(),
            _ => {
                writer.start_file(*path, options).unwrap();
                writer.write_all(data.as_bytes()).unwrap();
            }
        }
    }
    writer.finish().unwrap().into_inner()
}

/// The same bytes with every `from` replaced by `to`, of the same length.
fn replaced(mut bytes: Vec<u8>, from: &[u8], to: &[u8]) -> Vec<u8> {
    for at in 0..bytes.len() - from.len() {
        if bytes[at..].starts_with(from) {
            bytes[at..at + to.len()].copy_from_slice(to);
        }
    }
    bytes
}

fn feed(bytes: Vec<u8>, into: &Path, bounds: Bounds) -> Result<Manifest, UnpackError> {
    feed_as(bytes, &ArchiveLayout::default(), into, bounds)
}

fn feed_as(
    bytes: Vec<u8>,
    layout: &ArchiveLayout,
    into: &Path,
    bounds: Bounds,
) -> Result<Manifest, UnpackError> {
    let (mut writer, reader) = pipe();
    thread::scope(|scope| {
        scope.spawn(move || writer.write_all(&bytes).and_then(|()| writer.finish()));
        unpack(reader, layout, into, bounds)
    })
}

#[test]
fn what_a_layout_leaves_out_is_not_written_and_its_links_are_made() {
    let archive = gzip(&tarball(&[
        (FILE, "orache_bin/__init__.py", "residue"),
        (FILE, "orache_bin/runtime/bin/orache", "program"),
        (
            FILE,
            "orache_bin/runtime/bin/reed",
            "a link that came as a file",
        ),
        (FILE, "orache_bin/runtime/lib/reed/reed", "tool"),
        (FILE, "orache-2.6.dist-info/RECORD", "residue"),
    ]));
    let layout = ArchiveLayout {
        folder: Some("orache_bin/runtime".to_owned()),
        links: [("bin/reed", "lib/reed/reed"), ("bin/sedge", "lib/sedge")]
            .map(|(link, target)| (link.to_owned(), target.to_owned()))
            .into(),
        ..ArchiveLayout::default()
    };
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    let manifest = feed_as(archive, &layout, root, Bounds::default()).unwrap();
    assert_eq!(manifest.files(), 3);
    assert_eq!(fs::read_to_string(root.join("bin/reed")).unwrap(), "tool");
    assert_eq!(
        fs::read_link(root.join("bin/reed")).unwrap(),
        Path::new("../lib/reed/reed")
    );
    // What is not there gets no link.
    assert!(root.join("bin/sedge").symlink_metadata().is_err());
    let mut names: Vec<_> = fs::read_dir(root)
        .unwrap()
        .map(|entry| entry.unwrap().file_name())
        .collect();
    names.sort();
    assert_eq!(names, ["bin", "lib"]);
}

const DEEP: Entries<'_> = &[
    (FILE, "orache-2.6/NOTICE", "notes"),
    (FILE, "orache-2.6/Contents/Home/bin/orache", "program"),
    (FILE, "orache-2.6/Contents/Home/lib/reed", "tool"),
    (
        HARD,
        "orache-2.6/Contents/Home/lib/rush",
        "orache-2.6/Contents/Home/lib/reed",
    ),
    (SYM, "orache-2.6/Contents/Home/bin/reed", "../lib/reed"),
    (SYM, "orache-2.6/Contents/lib", "Home/lib"),
];

fn marked_by(file: &str) -> ArchiveLayout {
    ArchiveLayout {
        root_with: Some(file.to_owned()),
        ..ArchiveLayout::default()
    }
}

#[test]
fn the_folder_with_a_file_becomes_the_install_wherever_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("tree");
    fs::create_dir(&root).unwrap();
    let archive = gzip(&tarball(DEEP));
    let manifest = feed_as(archive, &marked_by("bin/orache"), &root, Bounds::default()).unwrap();
    assert_eq!(manifest.compare(&root).unwrap(), []);
    let mut paths: Vec<_> = manifest
        .paths()
        .map(|path| path.display().to_string())
        .collect();
    paths.sort();
    assert_eq!(paths, ["bin/orache", "bin/reed", "lib/reed", "lib/rush"]);
    assert_eq!(
        manifest.bytes(),
        "program".len() as u64 + "tool".len() as u64
    );
    assert_eq!(fs::read_to_string(root.join("bin/reed")).unwrap(), "tool");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[rstest]
#[case::none(&[], "bin/sedge", "which marks the install, but orache-2.6/NOTICE")]
#[case::two(&[(FILE, "orache-2.6/old/bin/orache", "program")], "bin/orache", "old have \"bin/orache\"")]
#[case::a_link_out_of_it(&[(SYM, "orache-2.6/Contents/Home/notes", "../../NOTICE")], "bin/orache", "leads out")]
#[case::a_second_name(
    &[(HARD, "orache-2.6/Contents/Home/notes", "orache-2.6/NOTICE")],
    "bin/orache",
    "hard link to a file that does not become part"
)]
fn an_archive_without_one_such_folder_is_refused(
    #[case] more: Entries<'_>,
    #[case] file: &str,
    #[case] problem: &str,
) {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("tree");
    fs::create_dir(&root).unwrap();
    let archive = gzip(&tarball(&[DEEP, more].concat()));
    let error = feed_as(archive, &marked_by(file), &root, Bounds::default()).unwrap_err();
    let error = error.to_string();
    let problem = problem.replace("leads out", "is a link out of the archive");
    assert!(error.contains(&problem), "{error}");
}

#[test]
fn files_folders_and_links_come_out_as_they_went_in() {
    let archive = tarball(&[
        (DIR, "marram-8/", ""),
        (FILE, "marram-8/bin/marram", "#!/bin/sh\n"),
        (SYM, "marram-8/bin/m", "marram"),
        (SYM, "marram-8/lib/up", "../bin/m"),
        (HARD, "marram-8/bin/twin", "marram-8/bin/marram"),
    ]);
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
    xz.write_all(&archive).unwrap();
    let zstd = zstd::encode_all(archive.as_slice(), 1).unwrap();
    for compressed in [gzip(&archive), xz.finish().unwrap(), zstd] {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        let unpacked = feed(compressed, root, Bounds::default()).unwrap();
        assert_eq!((unpacked.files(), unpacked.bytes()), (4, 10));
        assert_eq!(unpacked.compare(root).unwrap(), []);
        assert_eq!(
            fs::read_to_string(root.join("lib/up")).unwrap(),
            "#!/bin/sh\n"
        );
        assert_eq!(
            fs::read_to_string(root.join("bin/twin")).unwrap(),
            "#!/bin/sh\n"
        );
        let meta = fs::metadata(root.join("bin/marram")).unwrap();
        assert!(!meta.permissions().readonly());
        let modified = meta.modified().unwrap();
        assert_eq!(
            modified,
            SystemTime::UNIX_EPOCH + Duration::from_secs(1_700_000_000)
        );
    }
}

#[rstest]
#[case(&[(FILE, "/etc/passwd", "x")], "is an absolute path")]
#[case(&[(FILE, "m/../../evil", "x")], "leads out of the archive")]
#[case(&[(FILE, "m/ev\nil", "x")], "has a control character in its name")]
#[case(&[(SYM, "m/link", "/etc")], "is a link to an absolute path")]
#[case(&[(SYM, "m/link", "../evil")], "is a link out of the archive")]
#[case(&[(SYM, "m/a/b/c/up", "../../.."), (SYM, "m/out", "a/b/c/up/..")], "is a link out of the archive")]
#[case(&[(SYM, "m/link", "lib"), (FILE, "m/link/evil", "x")], "leads through a link")]
#[case(&[(SYM, "m/link", "lib"), (DIR, "m/link/evil", "")], "leads through a link")]
#[case(&[(SYM, "m/link", "lib"), (FILE, "m/link", "x")], "stands in it twice")]
#[case(&[(FILE, "m/a", "x"), (FILE, "m/a", "y")], "stands in it twice")]
#[case(&[(FILE, "m/a", "x"), (FILE, "m/a/b", "y")], "stands in it twice")]
#[case(&[(SYM, "m/a", "b"), (HARD, "m/c", "m/a")], "is a hard link to something else than a file")]
#[case(&[(HARD, "m/c", "../../etc/passwd")], "leads out of the archive")]
#[case(&[(EntryType::Char, "m/null", "")], "is neither a file nor a folder nor a link")]
#[case(&[(EntryType::Fifo, "m/fifo", "")], "is neither a file nor a folder nor a link")]
fn hostile_entries_are_refused(#[case] entries: Entries<'_>, #[case] problem: &str) {
    is_refused(gzip(&tarball(entries)), problem);
}

/// The archive is refused for this problem, and writes nothing outside of its folder.
fn is_refused(archive: Vec<u8>, problem: &str) {
    let outside = tempfile::tempdir().unwrap();
    let root = outside.path().join("tree");
    fs::create_dir(&root).unwrap();
    let error = feed(archive, &root, Bounds::default()).unwrap_err();
    assert!(error.to_string().ends_with(problem), "{error}");
    let left = fs::read_dir(outside.path()).unwrap().count();
    assert_eq!(left, 1, "nothing outside");
}

#[test]
fn scripts_of_a_wheel_are_executable() {
    let archive = zipped_with(
        &[
            (FILE, "marram-8.data/scripts/marram", "#!/bin/sh\n"),
            (FILE, "marram-8.data/data/readme", ""),
            (FILE, "marram/scripts/tides", ""),
        ],
        0o644,
    );
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    let layout = ArchiveLayout {
        strip_folders: Some(0),
        ..ArchiveLayout::default()
    };
    feed_as(archive, &layout, root, Bounds::default()).unwrap();
    let mode = |name: &str| {
        let found = fs::metadata(root.join(name)).unwrap();
        PermissionsExt::mode(&found.permissions()) & 0o777
    };
    assert_eq!(mode("marram-8.data/scripts/marram"), 0o755);
    assert_eq!(mode("marram-8.data/data/readme"), 0o644);
    assert_eq!(mode("marram/scripts/tides"), 0o644);
}

#[test]
fn a_zip_archive_comes_out_as_it_went_in() {
    let archive = zipped(&[
        (DIR, "marram-8/", ""),
        (FILE, "marram-8/bin/marram", "#!/bin/sh\n"),
        (SYM, "marram-8/bin/m", "marram"),
        (FILE, "top-level.txt", "stripped"),
    ]);
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    let manifest = feed(archive, root, Bounds::default()).unwrap();
    assert_eq!((manifest.files(), manifest.bytes()), (2, 10));
    assert_eq!(manifest.compare(root).unwrap(), []);
    assert_eq!(
        fs::read_to_string(root.join("bin/m")).unwrap(),
        "#!/bin/sh\n"
    );
    let mode = fs::metadata(root.join("bin/marram")).unwrap().permissions();
    assert_eq!(PermissionsExt::mode(&mode) & 0o777, 0o755);
    assert_eq!(
        fs::read_dir(root).unwrap().count(),
        1,
        "no spooled file stays"
    );
}

/// A header of this kind whose contents are said to be so long, sealed.
fn header_of(kind: EntryType, path: &str, size: u64) -> Vec<u8> {
    let mut header = Header::new_gnu();
    header.set_path(path).unwrap();
    header.set_entry_type(kind);
    header.set_mode(0o755);
    header.set_size(size);
    header.set_cksum();
    header.as_bytes().to_vec()
}

/// Unpacks what `write` writes, compressed with zstd, as it is written.
fn feed_zstd(
    into: &Path,
    bounds: Bounds,
    write: impl FnOnce(&mut dyn Write) -> io::Result<()> + Send,
) -> Result<Manifest, UnpackError> {
    let (mut writer, reader) = pipe();
    thread::scope(|scope| {
        scope.spawn(move || -> io::Result<()> {
            let mut encoder = zstd::Encoder::new(&mut writer, 1)?;
            // The reader may well leave before the end.
            write(&mut encoder)?;
            encoder.finish()?;
            writer.finish()
        });
        unpack(reader, &ArchiveLayout::default(), into, bounds)
    })
}

fn zeros(bytes: u64, to: &mut dyn Write) -> io::Result<()> {
    io::copy(&mut io::repeat(0).take(bytes), to).map(drop)
}

#[rstest]
#[case(EntryType::GNULongName)]
#[case(EntryType::GNULongLink)]
#[case(EntryType::XHeader)]
fn headers_that_claim_gigabytes_stop_at_the_bounds(#[case] kind: EntryType) {
    let folder = tempfile::tempdir().unwrap();
    let unpacked = feed_zstd(folder.path(), Bounds::default(), |to| {
        to.write_all(&header_of(kind, "long", 6 << 30))?;
        zeros(8 << 20, to)
    });
    assert_eq!(
        unpacked.unwrap_err().to_string(),
        "it holds more than 1048576 bytes in the headers of an entry"
    );
}

#[test]
fn padding_without_an_end_stops_at_the_bounds() {
    let folder = tempfile::tempdir().unwrap();
    let archive = tarball(&[(FILE, "m/a", "x")]);
    let padded = |bytes: u64| {
        let into = folder.path().join(bytes.to_string());
        fs::create_dir(&into).unwrap();
        feed_zstd(&into, Bounds::default(), |to| {
            to.write_all(&archive)?;
            zeros(bytes, to)
        })
    };
    assert_eq!(padded(64 << 10).unwrap().files(), 1);
    assert_eq!(
        padded(8 << 20).unwrap_err().to_string(),
        "it holds more than 1048576 bytes behind its last entry"
    );
}

#[rstest]
#[case(DIR, "m/folder/")]
#[case(EntryType::XGlobalHeader, "m/global")]
fn contents_of_what_has_none_count_too(#[case] kind: EntryType, #[case] path: &str) {
    let folder = tempfile::tempdir().unwrap();
    let bounds = Bounds {
        bytes: 1 << 20,
        ..Bounds::default()
    };
    let unpacked = feed_zstd(folder.path(), bounds, |to| {
        to.write_all(&header_of(kind, path, 60 << 30))?;
        zeros(8 << 20, to)
    });
    assert_eq!(
        unpacked.unwrap_err().to_string(),
        "it holds more than 1048576 bytes"
    );
}

/// What `script` writes to standard output in a folder with `m/holes`, a file that is a hole but for its
/// end.
fn by_tools(script: &str) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("m")).unwrap();
    let mut holes = File::create(folder.path().join("m/holes")).unwrap();
    holes.set_len(1 << 20).unwrap();
    std::os::unix::fs::FileExt::write_at(&holes, b"the bell", 1 << 20).unwrap();
    holes.flush().unwrap();
    let output = std::process::Command::new("bash")
        .args(["-ec", script])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert!(output.status.success(), "{script}: {output:?}");
    output.stdout
}

#[test]
fn files_with_holes_come_out_right_or_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let right = by_tools("tar --sparse --format=gnu -cz m");
    let manifest = feed(right, folder.path(), Bounds::default()).unwrap();
    assert_eq!(manifest.bytes(), (1 << 20) + 8);
    let contents = fs::read(folder.path().join("holes")).unwrap();
    assert!(contents.ends_with(b"\0the bell") && contents[..1 << 20].iter().all(|b| *b == 0));
    for version in ["0.0", "0.1", "1.0"] {
        is_refused(
            by_tools(&format!(
                "tar --sparse --format=posix --sparse-version={version} -cz m"
            )),
            "has holes in a form that is not read",
        );
    }
}

#[rstest]
#[case::zeros_behind("tar -c m | gzip; head -c 9000 /dev/zero")]
#[case::members("tar -c m | split -b 3000 --filter=gzip")]
#[case::zstd_that_looks_far_back("tar -c m | zstd --long=27 --ultra -22")]
#[case::zstd_that_looks_further("tar -c m | zstd --long=30")]
#[case::xz_with_a_large_dictionary("tar -c m | xz -9e")]
#[case::xz_streams("tar -c m | split -b 3000 --filter=xz")]
fn what_other_programs_read_is_read(#[case] script: &str) {
    let folder = tempfile::tempdir().unwrap();
    let archive = by_tools(script);
    let manifest = feed(archive, folder.path(), Bounds::default()).unwrap();
    assert_eq!(manifest.bytes(), (1 << 20) + 8);
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
}

#[test]
fn something_else_behind_the_last_gzip_member_is_refused() {
    for script in [
        "tar -c m | gzip; echo bell",
        "tar -c m | gzip; printf '\\0\\0bell'",
    ] {
        let folder = tempfile::tempdir().unwrap();
        let error = feed(by_tools(script), folder.path(), Bounds::default()).unwrap_err();
        assert_eq!(error.to_string(), "it cannot be unpacked", "{script}");
    }
}

#[test]
fn entries_too_deep_or_too_long_are_refused() {
    let deep = |levels: usize| {
        let mut builder = Builder::new(Vec::new());
        let mut header = Header::new_gnu();
        header.set_size(0);
        header.set_mode(0o755);
        let path = format!("{}file", "d/".repeat(levels));
        builder.append_data(&mut header, path, io::empty()).unwrap();
        gzip(&builder.into_inner().unwrap())
    };
    let folder = tempfile::tempdir().unwrap();
    feed(deep(128), folder.path(), Bounds::default()).unwrap();
    is_refused(deep(129), "lies more than 128 folders deep");
    let long = |length: usize| {
        let mut builder = Builder::new(Vec::new());
        let mut header = Header::new_gnu();
        header.set_size(0);
        header.set_mode(0o755);
        let part = format!("{}/", "x".repeat(99)).repeat(length / 100);
        let path = format!("{part}{}", "y".repeat(length % 100));
        builder.append_data(&mut header, path, io::empty()).unwrap();
        gzip(&builder.into_inner().unwrap())
    };
    feed(long(1024), &folder.path().join(""), Bounds::default()).unwrap();
    is_refused(long(1025), "has a path of more than 1,024 bytes");
}

/// A zip archive of one stored file, with the place of its local header changed.
fn with_local_change(at: usize, bytes: &[u8]) -> Vec<u8> {
    let mut archive = zipped(&[(FILE, "m/aaaa", "the bell")]);
    archive[at..at + bytes.len()].copy_from_slice(bytes);
    archive
}

#[rstest]
#[case::name(with_local_change(30, b"m/bbbb"))]
#[case::method(with_local_change(8, &[0]))]
#[case::checksum(with_local_change(14, &[1, 2, 3, 4]))]
#[case::size(with_local_change(22, &[9, 0, 0, 0]))]
#[case::encryption(with_local_change(6, &[1]))]
fn headers_of_zip_archives_must_agree(#[case] archive: Vec<u8>) {
    let folder = tempfile::tempdir().unwrap();
    let error = feed(archive, folder.path(), Bounds::default()).unwrap_err();
    assert_eq!(
        error.to_string(),
        "it has headers that its table of contents does not agree with"
    );
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn joined_archives_hidden_entries_and_second_ends_are_refused() {
    let [one, other] = ["m/one", "m/two"].map(|path| zipped(&[(FILE, path, "x")]));
    let joined = [&one[..], &other[..]].concat();
    let mut two_ends = one.clone();
    let comment = &other[other.len() - 22..];
    let length = two_ends.len();
    two_ends[length - 2..].copy_from_slice(&22_u16.to_le_bytes());
    two_ends.extend_from_slice(comment);
    for archive in [joined, two_ends] {
        let folder = tempfile::tempdir().unwrap();
        let error = feed(archive, folder.path(), Bounds::default()).unwrap_err();
        assert!(matches!(error, UnpackError::Ambiguous(_)), "{error}");
    }
}

#[rstest]
#[case(&[(FILE, "/etc/passwd", "x")], "is an absolute path")]
#[case(&[(FILE, "m/../../evil", "x")], "leads out of the archive")]
#[case(&[(FILE, "m/ev\nil", "x")], "has a control character in its name")]
#[case(&[(SYM, "m/link", "/etc")], "is a link to an absolute path")]
#[case(&[(SYM, "m/link", "../evil")], "is a link out of the archive")]
#[case(&[(SYM, "m/link", "lib"), (FILE, "m/link/evil", "x")], "leads through a link")]
#[case(&[(FILE, "m/a", "x"), (FILE, "m/a/b", "y")], "stands in it twice")]
fn hostile_entries_of_zip_archives_are_refused(
    #[case] entries: Entries<'_>,
    #[case] problem: &str,
) {
    is_refused(zipped(entries), problem);
}

#[test]
fn zip_archives_that_readers_understand_differently_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let twice = zipped(&[(FILE, "m/aaaa", "x"), (FILE, "m/bbbb", "y")]);
    let twice = replaced(twice, b"m/bbbb", b"m/aaaa");
    let error = feed(twice, folder.path(), Bounds::default()).unwrap_err();
    assert_eq!(error.to_string(), "it has two entries of the same name");
    let bounds = Bounds {
        entries: 1,
        bytes: 1000,
    };
    let zeros = "0".repeat(2000);
    let bomb = zipped(&[(FILE, "m/a", &zeros)]);
    let error = feed(bomb, folder.path(), bounds).unwrap_err();
    assert_eq!(error.to_string(), "it holds more than 1000 bytes");
    let mut cut = zipped(&[(FILE, "m/c", "x")]);
    cut.truncate(cut.len() - 10);
    let error = feed(cut, folder.path(), Bounds::default()).unwrap_err();
    assert_eq!(error.to_string(), "it cannot be unpacked");
}

#[test]
fn names_that_are_not_utf_8_are_refused() {
    let named = [(FILE, "m/bell-zz", "x")];
    let linked = [(SYM, "m/link", "bell-zz")];
    for archive in [
        gzip(&tarball_with(&named, |header| rename(header, 0))),
        gzip(&tarball_with(&linked, |header| rename(header, 157))),
        replaced(zipped(&named), b"bell-zz", b"bell-\xff\xfe"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let error = feed(archive, folder.path(), Bounds::default()).unwrap_err();
        assert!(
            error.to_string().ends_with("has a name that is not UTF-8"),
            "{error}"
        );
    }
}

/// Replaces the `zz` in a header's field.
fn rename(header: &mut Header, field: usize) {
    let bytes = &mut header.as_mut_bytes()[field..field + 100];
    for at in 0..98 {
        if &bytes[at..at + 2] == b"zz" {
            bytes[at..at + 2].copy_from_slice(b"\xff\xfe");
        }
    }
}

#[test]
fn names_that_differ_in_case_are_two_files_or_refused() {
    let folder = tempfile::tempdir().unwrap();
    let archive = tarball(&[(FILE, "m/Bell", "loud"), (FILE, "m/bell", "low")]);
    fs::write(folder.path().join("Probe"), "").unwrap();
    let distinguishes = !folder.path().join("probe").exists();
    match feed(gzip(&archive), folder.path(), Bounds::default()) {
        Ok(manifest) => {
            assert!(distinguishes);
            assert_eq!(manifest.compare(folder.path()).unwrap(), []);
        }
        Err(error) => {
            assert!(!distinguishes);
            assert!(error.to_string().ends_with("stands in it twice"), "{error}");
        }
    }
}

#[test]
fn a_million_entries_stop_at_the_usual_bounds() {
    let entry = tarball(&[(DIR, "m/a/", "")]);
    let header = &entry[..512];
    let (mut writer, reader) = pipe();
    let folder = tempfile::tempdir().unwrap();
    let error = thread::scope(|scope| {
        let header = header.to_vec();
        scope.spawn(move || {
            let mut encoder = GzEncoder::new(&mut writer, Compression::fast());
            // The reader leaves before the end: that is the point.
            (0..1_000_000).try_for_each(|_| encoder.write_all(&header))
        });
        unpack(
            reader,
            &ArchiveLayout::default(),
            folder.path(),
            Bounds::default(),
        )
        .unwrap_err()
    });
    assert_eq!(error.to_string(), "it holds more than 200000 entries");
}

#[test]
fn bombs_stop_at_the_bounds() {
    let folder = tempfile::tempdir().unwrap();
    let bounds = Bounds {
        entries: 3,
        bytes: 1000,
    };
    let zeros = "0".repeat(2000);
    let large = tarball(&[(FILE, "m/a", &zeros)]);
    let error = feed(gzip(&large), folder.path(), bounds).unwrap_err();
    assert_eq!(error.to_string(), "it holds more than 1000 bytes");
    let many = tarball(&[
        (DIR, "m/b", ""),
        (DIR, "m/c", ""),
        (DIR, "m/d", ""),
        (DIR, "m/e", ""),
    ]);
    let error = feed(gzip(&many), folder.path(), bounds).unwrap_err();
    assert_eq!(error.to_string(), "it holds more than 3 entries");
}

#[test]
fn what_is_no_archive_or_ends_early_is_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let page = b"<html>sign in first</html>".to_vec();
    let error = feed(page, folder.path(), Bounds::default()).unwrap_err();
    assert_eq!(
        error.to_string(),
        "it is neither a tar archive with gzip, xz or zstd nor a zip archive"
    );
    let zeros = "0".repeat(9000);
    let mut cut = gzip(&tarball(&[(FILE, "m/a", &zeros)]));
    cut.truncate(cut.len() / 2);
    let error = feed(cut, folder.path(), Bounds::default()).unwrap_err();
    assert_eq!(error.to_string(), "it cannot be unpacked");
    let error = feed(
        gzip(&tarball(&[(DIR, "m/", ""), (FILE, "README", "")])),
        folder.path(),
        Bounds::default(),
    );
    assert_eq!(
        error.unwrap_err().to_string(),
        "it has no files in the expected folder, but m/ and README"
    );
}
