"""Who may talk to the server, and what it hands out."""

from __future__ import annotations

from tests.server.client import ServerTest


class Guard(ServerTest):
    def test_only_this_page_may_drive_the_server(self) -> None:
        page = self.page
        self.assertEqual(page.get("/projects", Host="evil.example").status_code, 403)
        self.assertEqual(page.get("/projects", Origin="http://evil.example").status_code, 403)
        self.assertEqual(page.get("/projects", **{"Sec-Fetch-Site": "cross-site"}).status_code, 403)
        self.assertEqual(page.send("POST", "/projects", {"name": "x"}, Origin="http://127.0.0.1").status_code, 200)
        bare = page.client.post("/api/projects", b'{"name":"x"}', content_type="application/json")
        self.assertEqual(bare.status_code, 403)
        self.assertIn("frame-ancestors 'none'", page.get("/projects")["Content-Security-Policy"])

    def test_nothing_outside_the_store_is_served(self) -> None:
        for path in ("/media/..%2f..%2fsecrets.json/original", f"/media/{'a' * 64}/..%2f..%2fsecrets.json",
                     "/clips/../../etc/50/0.jpg", f"/measurements/{'g' * 64}"):  # fmt: skip
            self.assertIn(self.page.get(path).status_code, (400, 404), path)
