//! WebDAV on web servers other than Apache.

use std::{fs, os::unix::fs::PermissionsExt, process::Command};

use tempfile::TempDir;

use crate::{Server, WEBDAV_USER, free_port, unpacked::unpacked};

/// A web server that serves one folder under `/dav/office`, without TLS.
#[derive(Debug)]
pub struct WebServer {
    /// The address of the folder.
    pub url: String,
    /// The folder it serves.
    pub root: TempDir,
    _folder: TempDir,
    _server: Server,
}

/// What a configuration is written from: where its own files lie, the folder served, the port.
struct Ground {
    folder: TempDir,
    root: TempDir,
    port: u16,
}

impl Ground {
    fn new() -> Self {
        let ground = Self { folder: TempDir::new().unwrap(), root: TempDir::new().unwrap(), port: free_port() };
        // Their workers run as another user when a test runs as root.
        for folder in [&ground.folder, &ground.root] {
            fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o777)).unwrap();
        }
        // {SHA} is the password's SHA-1: enough for a server that lives for one test.
        let users = format!("{}:{{SHA}}b4tsZtWufd1eWBCveRkZ609QDrA=\n", WEBDAV_USER.0);
        fs::write(ground.folder.path().join("users"), users).unwrap();
        ground
    }

    fn started(self, command: &mut Command, config: String) -> WebServer {
        let Self { folder, root, port } = self;
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        let server = Server::start(command.arg(file), port);
        WebServer { url: format!("http://127.0.0.1:{port}/dav/office"), root, _folder: folder, _server: server }
    }
}

impl WebServer {
    /// nginx with its module for the rest of WebDAV.
    pub fn nginx() -> Self {
        let ground = Ground::new();
        let (at, root, port) = (ground.folder.path().display(), ground.root.path().display(), ground.port);
        let module = unpacked("/usr/lib/nginx/modules/ngx_http_dav_ext_module.so");
        let config = format!(
            "load_module {module};\nuser www-data;\ndaemon off;\npid {at}/pid;\nerror_log {at}/error crit;\n\
             events {{ worker_connections 256; }}\nhttp {{ access_log off; client_body_temp_path {at}/b; proxy_temp_path {at}/p;\n\
             fastcgi_temp_path {at}/f; uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\n\
             server {{ listen 127.0.0.1:{port};\nlocation /dav/office/ {{ alias {root}/; dav_methods PUT DELETE MKCOL COPY MOVE;\n\
             dav_ext_methods PROPFIND OPTIONS; client_max_body_size 0; auth_basic office; auth_basic_user_file {at}/users; }} }} }}\n",
            module = module.display()
        );
        let mut command = Command::new(unpacked("/usr/sbin/nginx"));
        command.arg("-p").arg(ground.folder.path()).args(["-e", "stderr", "-c"]);
        ground.started(&mut command, config)
    }

    /// lighttpd.
    pub fn lighttpd() -> Self {
        let ground = Ground::new();
        let (at, root, port) = (ground.folder.path().display(), ground.root.path().display(), ground.port);
        let config = format!(
            "server.document-root = \"{at}\"\nserver.bind = \"127.0.0.1\"\nserver.port = {port}\nserver.errorlog = \"{at}/error\"\n\
             server.username = \"www-data\"\nserver.groupname = \"www-data\"\nserver.upload-dirs = (\"{at}\")\n\
             server.modules = (\"mod_auth\", \"mod_authn_file\", \"mod_alias\", \"mod_webdav\")\n\
             alias.url = (\"/dav/office\" => \"{root}\")\nauth.backend = \"htpasswd\"\nauth.backend.htpasswd.userfile = \"{at}/users\"\n\
             $HTTP[\"url\"] =~ \"^/dav/office($|/)\" {{\nwebdav.activate = \"enable\"\nwebdav.is-readonly = \"disable\"\n\
             auth.require = (\"\" => (\"method\" => \"basic\", \"realm\" => \"office\", \"require\" => \"valid-user\"))\n}}\n"
        );
        let mut command = Command::new(unpacked("/usr/sbin/lighttpd"));
        command.arg("-D").arg("-m").arg(unpacked("/usr/lib/lighttpd")).arg("-f");
        ground.started(&mut command, config)
    }
}
