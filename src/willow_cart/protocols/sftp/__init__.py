"""SFTP: the SSH File Transfer Protocol, version 3, through asyncssh."""
