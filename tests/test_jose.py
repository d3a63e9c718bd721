"""JOSE by the vectors of its standards, and by what must not be read or trusted."""

from __future__ import annotations

import contextlib
import json
from datetime import UTC, datetime
from typing import Any

import pytest
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from hypothesis import given
from hypothesis import strategies as st

from kit import key
from trace_lens.common import limits
from trace_lens.demo.tokens import compact, encrypt, public_jwk, sign, signature
from trace_lens.oidc import algorithms, documents, errors
from trace_lens.oidc.encryption import Broken, NotForKey, Refused, decrypt
from trace_lens.oidc.jose import JoseDamaged, Jwe, from_base64url, read_jwe, read_jws, to_base64url
from trace_lens.oidc.jwk import read_jwk, read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.oidc.tokens import NoClaims, half_hash, kind_of, read_numeric_date, read_token

JOE = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ"
HMAC_KEY = "AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow"
EC_KEY = {
    "kty": "EC",
    "crv": "P-256",
    "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
    "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
}
ED_KEY = {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}
RSA_N = (
    "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMst"
    "n64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajr"
    "n1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw"
)
ROAD = (
    "SXTigJlzIGEgZGFuZ2Vyb3VzIGJ1c2luZXNzLCBGcm9kbywgZ29pbmcgb3V0IHlvdXIgZG9vci4gWW91IHN0ZXAgb250byB0aGUg"
    "cm9hZCwgYW5kIGlmIHlvdSBkb24ndCBrZWVwIHlvdXIgZmVldCwgdGhlcmXigJlzIG5vIGtub3dpbmcgd2hlcmUgeW91IG1pZ2h0"
    "IGJlIHN3ZXB0IG9mZiB0by4"
)
HOBBIT_N = (
    "n4EPtAOCc9AlkeQHPzHStgAbgs7bTZLwUBZdR8_KuKPEHLd4rHVTeT-O-XV2jRojdNhxJWTDvNd7nqQ0VEiZQHz_AJmSCpMaJMRB"
    "SFKrKb2wqVwGU_NsYOYL-QtiWN2lbzcEe6XC0dApr5ydQLrHqkHHig3RBordaZ6Aj-oBHqFEHYpPe7Tpe-OfVfHd1E6cS6M1FZcD"
    "1NNLYD5lFHpPI9bTwJlsde3uhGqC0ZCuEHg8lhzwOHrtIQbS0FVbb9k3-tVTU4fg_3L_vniUFAKwuCLqKnS2BYwdq_mzSnbLY7h_"
    "qixoR7jig3__kRhuaxwUkRz5iaiQkqgc5gHdrNP5zw"
)
HOBBIT_EC = {
    "kty": "EC",
    "crv": "P-521",
    "x": "AHKZLLOsCOzz5cY97ewNUajB957y-C-U88c3v13nmGZx6sYl_oJXu9A5RkTKqjqvjyekWF-7ytDyRXYgCF5cj0Kt",
    "y": "AdymlHvOiLxXkEhayXQnNCvDX4h9htZaCJN34kfmC6pV5OhQHiraVySsUdaQkAgDPrwQrJmbnX9cwlGfP-HqHZR1",
}
VECTORS: list[tuple[str, dict[str, str], str]] = [
    (
        "RFC 7515 A.1",
        {"kty": "oct", "k": HMAC_KEY},
        f"eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9.{JOE}.dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk",
    ),
    (
        "RFC 7515 A.2",
        {
            "kty": "RSA",
            "e": "AQAB",
            "n": "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yR"
            "T-SFd2lZS-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXB"
            "dQOS-UTo7WTBEMa2R2CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9ia"
            "GNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyuXpoQ",
        },
        f"eyJhbGciOiJSUzI1NiJ9.{JOE}."
        "cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9"
        "uJdbF9CUAr7t1dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB"
        "_eSN9383LcOLn6_dO--xi12jzDwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rq"
        "Vt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQGe77Rw",
    ),
    (
        "RFC 7515 A.4",
        {
            "kty": "EC",
            "crv": "P-521",
            "x": "AekpBQ8ST8a8VcfVOTNl353vSrDCLLJXmPk06wTjxrrjcBpXp5EOnYG_NjFZ6OvLFV1jSfS9tsz4qUxcWceqwQGk",
            "y": "ADSmRA43Z1DSNx_RvcLI87cdL07l6jQyyBXMoxVg_l2Th-x3S1WDhjDly79ajL4Kkd0AZMaZmh9ubmf63e3kyMj2",
        },
        "eyJhbGciOiJFUzUxMiJ9.UGF5bG9hZA.AdwMgeerwtHoh-l192l60hp9wAHZFVJbLfD_UxMi70cwnZOYaRI1bKPWROc-mZZqwqT2"
        "SI-KGDKB34XO0aw_7XdtAG8GaSwFKdCAPZgoXD2YBJZCPEX3xKpRwcdOO8KpEHwJjyqOgzDO7iKvU8vcnwNrmxYbSW9ERBXukOXo"
        "lLzeO_Jn",
    ),
    (
        "RFC 7515 A.3",
        EC_KEY,
        f"eyJhbGciOiJFUzI1NiJ9.{JOE}.DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q",
    ),
    (
        "RFC 8037 A.4",
        ED_KEY,
        "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc.hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg",
    ),
    (
        "RFC 7520 4.1",
        {"kty": "RSA", "e": "AQAB", "n": HOBBIT_N},
        f"eyJhbGciOiJSUzI1NiIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9.{ROAD}."
        "MRjdkly7_-oTPTS3AXP41iQIGKa80A0ZmTuV5MEaHoxnW2e5CZ5NlKtainoFmKZopdHM1O2U4mwzJdQx996ivp83xuglII7PNDi8"
        "4wnB-BDkoBwA78185hX-Es4JIwmDLJK3lfWRa-XtL0RnltuYv746iYTh_qHRD68BNt1uSNCrUCTJDt5aAE6x8wW1Kt9eRo4QPocS"
        "adnHXFxnt8Is9UzpERV0ePPQdLuW3IS_de3xyIrDaLGdjluPxUAhb6L2aXic1U12podGU0KLUQSE_oI-ZnmKJ3F4uOZDnd6QZWJu"
        "shZ41Axf_fcIe8u9ipH84ogoree7vjbU5y18kDquDg",
    ),
    (
        "RFC 7520 4.2",
        {"kty": "RSA", "e": "AQAB", "n": HOBBIT_N},
        f"eyJhbGciOiJQUzM4NCIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9.{ROAD}."
        "cu22eBqkYDKgIlTpzDXGvaFfz6WGoz7fUDcfT0kkOy42miAh2qyBzk1xEsnk2IpN6-tPid6VrklHkqsGqDqHCdP6O8TTB5dDDItl"
        "lVo6_1OLPpcbUrhiUSMxbbXUvdvWXzg-UD8biiReQFlfz28zGWVsdiNAUf8ZnyPEgVFn442ZdNqiVJRmBqrYRXe8P_ijQ7p8Vdz0"
        "TTrxUeT3lm8d9shnr2lfJT8ImUjvAA2Xez2Mlp8cBE5awDzT0qI0n6uiP1aCN_2_jLAeQTlqRHtfa64QQSUmFAAjVKPbByi7xho0"
        "uTOcbH510a6GYmJUAfmWjwZ6oD4ifKo8DYM-X72Eaw",
    ),
    (
        "RFC 7520 4.3",
        HOBBIT_EC,
        f"eyJhbGciOiJFUzUxMiIsImtpZCI6ImJpbGJvLmJhZ2dpbnNAaG9iYml0b24uZXhhbXBsZSJ9.{ROAD}."
        "AE_R_YZCChjn4791jSQCrdPZCNYqHXCTZH0-JZGYNlaAjP2kqaluUIIUnC9qvbu9Plon7KRTzoNEuT4Va2cmL1eJAQy3mtPBu_u_"
        "sDDyYjnAMDxXPn7XrT0lw-kvAD890jl8e2puQens_IEKBpHABlsbEPX6sFY8OcGDqoRuBomu9xQ2",
    ),
    (
        "RFC 7520 4.4",
        {"kty": "oct", "k": "hJtXIZ2uSN5kbQfbtTNWbpdmhkV8FJG-Onbc6mxCcYg"},
        "eyJhbGciOiJIUzI1NiIsImtpZCI6IjAxOGMwYWU1LTRkOWItNDcxYi1iZmQ2LWVlZjMxNGJjNzAzNyJ9.SXTigJlzIGEgZGFuZ2Vyb3VzIGJ1c2luZXNzLCBGcm9kbywgZ29pbmcgb3V0IHlvdXIgZG9vci4gWW91IHN0ZXAgb250byB0aGUgcm9hZCwgYW5kIGlmIHlvdSBkb24ndCBrZWVwIHlvdXIgZmVldCwgdGhlcmXigJlzIG5vIGtub3dpbmcgd2hlcmUgeW91IG1pZ2h0IGJlIHN3ZXB0IG9mZiB0by4.s0h6KThzkfBBBkLspW1h84VsJZFTsPPqMDA7g1Md7p0",
    ),
]


@pytest.mark.parametrize(("name", "jwk", "token"), VECTORS, ids=[one[0] for one in VECTORS])
def test_signature_vectors(name: str, jwk: dict[str, str], token: str) -> None:
    found = read_jws(token)
    one = read_jwk(jwk)
    material = one.public or one.secret
    assert material is not None
    assert algorithms.verifies(found.algorithm, material, found.signature, found.signing_input)
    spoilt = bytes([found.signature[0] ^ 1]) + found.signature[1:]
    assert not algorithms.verifies(found.algorithm, material, spoilt, found.signing_input)
    assert not algorithms.verifies(found.algorithm, material, found.signature, found.signing_input + b"x")


def test_thumbprints() -> None:
    rsa = {"kty": "RSA", "n": RSA_N, "e": "AQAB", "alg": "RS256", "kid": "2011-04-29"}
    assert thumbprint(read_jwk(rsa)) == "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"  # RFC 7638 §3.1
    assert thumbprint(read_jwk(ED_KEY)) == "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k"  # RFC 8037 A.3


def test_key_wrapping_with_cbc() -> None:
    """RFC 7516 A.3."""
    token = (
        "eyJhbGciOiJBMTI4S1ciLCJlbmMiOiJBMTI4Q0JDLUhTMjU2In0.6KB707dM9YTIgHtLvtgWQ8mKwboJW3of9locizkDTHzBC2IlrT1oOQ."
        "AxY8DCtDaGlsbGljb3RoZQ.KDlTtXchhZTGufMYmOYGS4HffxPSUrfmqCHXaI9wOGY.U0m_YmjN04DJvceFICbCVQ"
    )
    wrapping = from_base64url("GawgguFyGrWKav7AX4VKUg")[0]
    assert decrypt(read_jwe(token), wrapping) == b"Live long and prosper."
    with pytest.raises(NotForKey):
        decrypt(read_jwe(token), bytes(16))
    with pytest.raises(Broken):
        decrypt(read_jwe(token[:-4] + "AAAA"), wrapping)


RSA_SEALED: list[tuple[str, str, str, str, bytes]] = [
    (
        "RFC 7516 A.1",
        "oahUIoWw0K0usKNuOR6H4wkf4oBUXHTxRvgb48E-BVvxkeDNjbC4he8rUWcJoZmds2h7M70imEVhRU5djINXtqllXI4DFqcI1Dgj"
        "T9LewND8MW2Krf3Spsk_ZkoFnilakGygTwpZ3uesH-PFABNIUYpOiN15dsQRkgr0vEhxN92i2asbOenSZeyaxziK72UwxrrKoExv"
        "6kc5twXTq4h-QChLOln0_mtUZwfsRaMStPs6mS6XrgxnxbWhojf663tuEQueGC-FCMfra36C9knDFGzKsNa7LZK2djYgyD3JR_MB"
        "_4NUJW_TqOQtwHYbxevoJArm-L5StowjzGy-_bq6Gw",
        "kLdtIj6GbDks_ApCSTYQtelcNttlKiOyPzMrXHeI-yk1F7-kpDxY4-WY5NWV5KntaEeXS1j82E375xxhWMHXyvjYecPT9fpwR_M9"
        "gV8n9Hrh2anTpTD93Dt62ypW3yDsJzBnTnrYu1iwWRgBKrEYY46qAZIrA2xAwnm2X7uGR1hghkqDp0Vqj3kbSCz1XyfCs6_LehBw"
        "txHIyh8Ripy40p24moOAbgxVw3rxT_vlt3UVe4WO3JkJOzlpUf-KTVI2Ptgm-dARxTEtE-id-4OJr0h-K-VFs3VSndVTIznSxfyr"
        "j8ILL6MG_Uv8YAu7VILSB3lOW085-4qE3DzgrTjgyQ",
        "eyJhbGciOiJSU0EtT0FFUCIsImVuYyI6IkEyNTZHQ00ifQ.OKOawDo13gRp2ojaHV7LFpZcgV7T6DVZKTyKOMTYUmKoTCVJRgckC"
        "L9kiMT03JGeipsEdY3mx_etLbbWSrFr05kLzcSr4qKAq7YN7e9jwQRb23nfa6c9d-StnImGyFDbSv04uVuxIp5Zms1gNxKKK2Da1"
        "4B8S4rzVRltdYwam_lDp5XnZAYpQdb76FdIKLaVmqgfwX7XWRxv2322i-vDxRfqNzo_tETKzpVLzfiwQyeyPGLBIO56YJ7eObdv0"
        "je81860ppamavo35UgoRdbYaBcoh9QcfylQr66oc6vFWXRcZ_ZT2LawVCWTIy3brGPi6UklfCpIMfIjf7iGdXKHzg.48V1_ALb6U"
        "S04U3b.5eym8TW_c8SuK0ltJ3rpYIzOeDQz7TALvtu6UG9oMo4vpzs9tX_EFShS8iB7j6jiSdiwkIr3ajwQzaBtQD_A.XFBoMYUZ"
        "odetZdvTiFvSkQ",
        b"The true sign of intelligence is not knowledge but imagination.",
    ),
    (
        "RFC 7516 A.2",
        "sXchDaQebHnPiGvyDOAT4saGEUetSyo9MKLOoWFsueri23bOdgWp4Dy1WlUzewbgBHod5pcM9H95GQRV3JDXboIRROSBigeC5yjU"
        "1hGzHHyXss8UDprecbAYxknTcQkhslANGRUZmdTOQ5qTRsLAt6BTYuyvVRdhS8exSZEy_c4gs_7svlJJQ4H9_NxsiIoLwAEk7-Q3"
        "UXERGYw_75IDrGA84-lA_-Ct4eTlXHBIY2EaV7t7LjJaynVJCpkv4LKjTTAumiGUIuQhrNhZLuF_RJLqHpM2kgWFLU7-VTdL1VbC"
        "2tejvcI2BlMkEpk1BzBZI0KQB0GaDWFLN-aEAw3vRw",
        "VFCWOqXr8nvZNyaaJLXdnNPXZKRaWCjkU5Q2egQQpTBMwhprMzWzpR8Sxq1OPThh_J6MUD8Z35wky9b8eEO0pwNS8xlh1lOFRRBo"
        "NqDIKVOku0aZb-rynq8cxjDTLZQ6Fz7jSjR1Klop-YKaUHc9GsEofQqYruPhzSA-QgajZGPbE_0ZaVDJHfyd7UUBUKunFMScbflY"
        "AAOYJqVIVwaYR5zWEEceUjNnTNo_CVSj-VvXLO5VZfCUAVLgW4dpf1SrtZjSt34YLsRarSb127reG_DUwg9Ch-KyvjT1SkHgUWRV"
        "Gcyly7uvVGRSDwsXypdrNinPA4jlhoNdizK2zF2CWQ",
        "eyJhbGciOiJSU0ExXzUiLCJlbmMiOiJBMTI4Q0JDLUhTMjU2In0.UGhIOguC7IuEvf_NPVaXsGMoLOmwvc1GyqlIKOK1nN94nHPo"
        "ltGRhWhw7Zx0-kFm1NJn8LE9XShH59_i8J0PH5ZZyNfGy2xGdULU7sHNF6Gp2vPLgNZ__deLKxGHZ7PcHALUzoOegEI-8E66jX2E"
        "4zyJKx-YxzZIItRzC5hlRirb6Y5Cl_p-ko3YvkkysZIFNPccxRU7qve1WYPxqbb2Yw8kZqa2rMWI5ng8OtvzlV7elprCbuPhcCdZ"
        "6XDP0_F8rkXds2vE4X-ncOIM8hAYHHi29NX0mcKiRaD0-D-ljQTP-cFPgwCp6X-nZZd9OHBv-B3oWh2TbqmScqXMR4gp_A.AxY8D"
        "CtDaGlsbGljb3RoZQ.KDlTtXchhZTGufMYmOYGS4HffxPSUrfmqCHXaI9wOGY.9hH0vgRfYgPnAHOd8stkvw",
        b"Live long and prosper.",
    ),
]


@pytest.mark.parametrize(("name", "n", "d", "text", "plain"), RSA_SEALED, ids=[one[0] for one in RSA_SEALED])
def test_key_transport_vectors(name: str, n: str, d: str, text: str, plain: bytes) -> None:
    private = read_jwk({"kty": "RSA", "n": n, "e": "AQAB", "d": d}, own=True).private
    assert decrypt(read_jwe(text), private) == plain
    with pytest.raises((NotForKey, Broken)):
        decrypt(read_jwe(text), key("other"))


def test_cbc_with_hmac() -> None:
    """RFC 7518 B.1: the authentication tag, and that it is asked for."""
    tag = bytes.fromhex("652c3fa36b0a7c5b3219fab3a30bc1c4")
    secret, vector = bytes(range(32)), bytes.fromhex("1af38c2dc2b96ffdd86694092341bc04")
    plain = b"A cipher system must not be required to be secret, and it must be able to fall into the hands of the enemy without inconvenience"
    ciphertext = bytes.fromhex(
        "c80edfa32ddf39d5ef00c0b468834279a2e46a1b8049f792f76bfe54b903a9c9a94ac9b47ad2655c5f10f9aef71427e2fc6f9b3f399a221489f1"
        "6362c703233609d45ac69864e3321cf82935ac4096c86e133314c54019e8ca7980dfa4b9cf1b384c486f3a54c51078158ee5d79de59fbd34d848"
        "b3d69550a67646344427ade54b8851ffb598f7f80074b9473c82e2db"
    )
    aad = b"The second principle of Auguste Kerckhoffs"
    sealed = Jwe(
        text="",
        header={"alg": "dir", "enc": "A128CBC-HS256"},
        encrypted_key=b"",
        vector=vector,
        ciphertext=ciphertext,
        tag=tag,
        aad=aad,
    )
    assert decrypt(sealed, secret) == plain
    with pytest.raises(Broken):
        decrypt(sealed._replace(aad=aad[1:]), secret)


SEALED: list[tuple[str, str, str]] = [
    (
        "RFC 7520 5.6, a key given directly",
        "XctOhJAkA-pD9Lh7ZgW_2A",
        "eyJhbGciOiJkaXIiLCJraWQiOiI3N2M3ZTJiOC02ZTEzLTQ1Y2YtODY3Mi02MTdiNWI0NTI0M2EiLCJlbmMiOiJBMTI4R0NNIn0."
        ".refa467QzzKx6QAB.JW_i_f52hww_ELQPGaYyeAB6HYGcR559l9TYnSovc23XJoBcW29rHP8yZOZG7YhLpT1bjFuvZPjQS-m0IF"
        "tVcXkZXdH_lr_FrdYt9HRUYkshtrMmIUAyGmUnd9zMDB2n0cRDIHAzFVeJUDxkUwVAE7_YGRPdcqMyiBoCO-FBdE-Nceb4h3-FtB"
        "P-c_BIwCPTjb9o0SbdcdREEMJMyZBH8ySWMVi1gPD9yxi-aQpGbSv_F9N4IZAxscj5g-NJsUPbjk29-s7LJAGb15wEBtXphVCgyy"
        "53CoIKLHHeJHXex45Uz9aKZSRSInZI-wjsY0yu3cT4_aQ3i1o-tiE-F8Ios61EKgyIQ4CWao8PFMj8TTnp.vbb32Xvllea2OtmHA"
        "dccRQ",
    ),
    (
        "RFC 7520 5.8, a key wrapped",
        "GZy6sIZ6wl9NJOKB-jnmVQ",
        "eyJhbGciOiJBMTI4S1ciLCJraWQiOiI4MWIyMDk2NS04MzMyLTQzZDktYTQ2OC04MjE2MGFkOTFhYzgiLCJlbmMiOiJBMTI4R0NN"
        "In0.CBI6oDw8MydIx1IBntf_lQcw2MmJKIQx.Qx0pmsDa8KnJc9Jo.AwliP-KmWgsZ37BvzCefNen6VTbRK3QMA4TkvRkH0tP1bT"
        "dhtFJgJxeVmJkLD61A1hnWGetdg11c9ADsnWgL56NyxwSYjU1ZEHcGkd3EkU0vjHi9gTlb90qSYFfeF0LwkcTtjbYKCsiNJQkcIp"
        "1yeM03OmuiYSoYJVSpf7ej6zaYcMv3WwdxDFl8REwOhNImk2Xld2JXq6BR53TSFkyT7PwVLuq-1GwtGHlQeg7gDT6xW0JqHDPn_H"
        "-puQsmthc9Zg0ojmJfqqFvETUxLAF-KjcBTS5dNy6egwkYtOt8EIHK-oEsKYtZRaa8Z7MOZ7UGxGIMvEmxrGCPeJa14slv2-gaqK"
        "0kEThkaSqdYw0FkQZF.ER7MWJZ1FBI_NKvn7Zb1Lw",
    ),
]


@pytest.mark.parametrize(("name", "shared", "text"), SEALED, ids=[one[0] for one in SEALED])
def test_encryption_vectors(name: str, shared: str, text: str) -> None:
    octets = from_base64url(shared)[0]
    assert decrypt(read_jwe(text), octets).startswith(b"You can trust us to stick with")
    parts = text.split(".")
    for place, part in enumerate(parts):
        spoilt = part[:-2] + ("AA" if part[-2:] != "AA" else "BB") if part else "AA"
        if place == 0:
            continue
        with pytest.raises((NotForKey, Broken)):
            decrypt(read_jwe(".".join([*parts[:place], spoilt, *parts[place + 1 :]])), octets if part else bytes(16))


def test_key_agreement() -> None:
    """RFC 7518 Appendix C: what was sealed with the derived key opens with Bob's."""
    epk = {
        "kty": "EC",
        "crv": "P-256",
        "x": "gI0GAILBdu7T53akrFmMyGcsF3n5dO7MmwNBHKW5SV0",
        "y": "SLW_xSffzlPWrHEVI30DHM_4egVwt3NQqeUD7nMFpps",
    }
    bob = read_jwk(
        {
            "kty": "EC",
            "crv": "P-256",
            "x": "weNJy2HscCSM6AEDTDg04biOvhFhyyWvOHQfeF_PxMQ",
            "y": "e8lnCO-AlStT-NJVX-crhB7QRYhiix03illJOVAOyck",
            "d": "VEmDZpDXXK8p8N0Cndsxs924q6nS1RXFASRl6BfUqdw",
        },
        own=True,
    )
    derived = from_base64url("VqqN6vgjbSBcIijNcacQGg")[0]
    protected = compact({"alg": "ECDH-ES", "enc": "A128GCM", "apu": "QWxpY2U", "apv": "Qm9i", "epk": epk})
    sealed = AESGCM(derived).encrypt(bytes(12), b"hello", protected.encode())
    token = ".".join((protected, "", to_base64url(bytes(12)), to_base64url(sealed[:-16]), to_base64url(sealed[-16:])))
    assert decrypt(read_jwe(token), bob.private) == b"hello"


@pytest.mark.parametrize(
    ("algorithm", "kind"),
    [
        ("RS256", "rsa-2048"),
        ("RS384", "rsa-2048"),
        ("RS512", "rsa-2048"),
        ("PS256", "rsa-2048"),
        ("PS384", "rsa-2048"),
        ("PS512", "rsa-2048"),
        ("ES256", "ec-256"),
        ("ES384", "ec-384"),
        ("EdDSA", "ed"),
        ("Ed25519", "ed"),
    ],
)
def test_every_algorithm_by_its_own_key_only(algorithm: str, kind: str) -> None:
    private = key("jose", kind)
    made = signature(b"octets", private, algorithm)
    mine = read_jwk(public_jwk(private, "a")).public
    assert mine is not None
    assert algorithms.verifies(algorithm, mine, made, b"octets")
    others = [name for name in algorithms.SIGNATURES if not algorithms.same_algorithm(name, algorithm)]
    assert not any(algorithms.verifies(name, mine, made, b"octets") for name in others)
    assert not algorithms.verifies(algorithm, b"secret", made, b"octets")


def test_a_public_key_is_no_shared_secret() -> None:
    public = read_jwk(public_jwk(key("jose"), "a")).public
    assert public is not None
    assert not algorithms.verifies("HS256", public, signature(b"x", b"k" * 32, "HS256"), b"x")
    assert not algorithms.verifies("none", public, b"", b"x")


@pytest.mark.parametrize(
    ("text", "words", "truncated"),
    [
        ("a.b", "stops before its signature", True),
        (f"{compact({'alg': 'RS256'})}.e30.", "stops before its signature", True),
        ("a.b.c.d", "4 parts", False),
        (f"{to_base64url(b'no json')}.e30.AA", "header", False),
        (f"{to_base64url(b'[]')}.e30.AA", "header", False),
        ("*.e30.AA", "header", False),
        ("x" * (limits.TOKEN_CHARACTERS + 1), "characters", False),
    ],
)
def test_what_is_no_token(text: str, words: str, truncated: bool) -> None:
    with pytest.raises(JoseDamaged) as raised:
        read_jws(text)
    assert words in raised.value.reason
    assert raised.value.truncated == truncated


def test_lax_base64url_is_read_and_told() -> None:
    made = sign({"sub": "1"}, key("jose"))
    head, body, value = made.split(".")
    found = read_jws(f"{head}.{body}==.{value}")
    assert found.problems
    assert found.payload == read_jws(made).payload


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "empty"),
        ("{", "ends"),
        ('{"a": 1} x', "after"),
        ("[" * 100 + "]" * 100, "deep"),
        ('{"a": NaN}', "NaN"),
        (b'{"a": "\xff"}', "UTF-8"),
    ],
)
def test_json_that_is_refused(text: str | bytes, words: str) -> None:
    with pytest.raises(JsonDamaged):
        read_json(text if isinstance(text, bytes) else text.encode())


def test_json_that_is_odd() -> None:
    found = read_json(b'{"a": 1, "a": 2, "n": 9007199254740993, "o": {"b": 1, "b": 2}}')
    assert found.value["a"] == 2
    assert set(found.duplicates) == {"a", "b"}
    assert found.inexact == ("9007199254740993",)


@pytest.mark.parametrize(
    ("header", "claims", "kind"),
    [
        ({}, {"iss": "i", "sub": "s", "aud": "a", "exp": 1, "iat": 1}, "id-token"),
        ({}, {"nonce": "n"}, "id-token"),
        ({"typ": "at+jwt"}, {"nonce": "n"}, "access-token"),
        ({"typ": "application/at+jwt"}, {}, "access-token"),
        ({}, {"iss": "i", "sub": "s", "aud": "a", "exp": 1, "iat": 1, "scope": "x"}, "access-token"),
        ({"typ": "logout+jwt"}, {}, "logout-token"),
        ({}, {"events": {"http://schemas.openid.net/event/backchannel-logout": {}}}, "logout-token"),
        ({}, {"response_type": "code", "client_id": "c"}, "authorization-request"),
        ({}, {"sub": "s", "email": "e"}, "userinfo"),
        ({}, {"hello": 1}, "jwt"),
    ],
)
def test_kinds_of_token(header: dict[str, Any], claims: dict[str, Any], kind: str) -> None:
    found, why = kind_of(header, claims)
    assert found == kind
    assert why


@pytest.mark.parametrize(
    ("document", "kind"),
    [
        ({"issuer": "i", "jwks_uri": "k"}, "discovery-document"),
        ({"keys": []}, "key-set"),
        ({"kty": "RSA"}, "jwk"),
        ({"active": True, "sub": "s"}, "introspection"),
        ({"access_token": "a"}, "token-response"),
        ({"error": "invalid_grant"}, "token-response"),
        ({"error": "Not Found", "status": 404}, None),
        ({"error": "N-17", "error_description": "x"}, "token-response"),
        ({"request_uri": "urn:x", "expires_in": 60}, "token-response"),
        ({"client_id": "c", "redirect_uris": []}, "client-registration"),
        ({"sub": "s"}, "userinfo"),
        ({"a": 1}, None),
        ([], None),
    ],
)
def test_kinds_of_document(document: Any, kind: str | None) -> None:
    assert documents.kind_of(document) == kind


@pytest.mark.parametrize(
    ("value", "moment", "problem"),
    [
        (1763626443, "2025-11-20T08:14:03", None),
        (1763626443.5, "2025-11-20T08:14:03.500000", None),
        ("1763626443", "2025-11-20T08:14:03", "text"),
        (1763626443000, "2025-11-20T08:14:03", "milliseconds"),
        ("2025-11-20T08:14:03Z", "2025-11-20T08:14:03", "written out"),
        ("soon", None, "neither"),
        (True, None, "no number"),
        (None, None, "no number"),
        (1e300, None, "calendar"),
    ],
)
def test_moments(value: Any, moment: str | None, problem: str | None) -> None:
    found = read_numeric_date(value)
    assert found.moment == (datetime.fromisoformat(moment).replace(tzinfo=UTC) if moment else None)
    assert bool(problem) == bool(found.problem)
    assert (problem or "") in (found.problem or "")


def test_half_hashes() -> None:
    """OpenID Connect Core 1.0 A.4 gives this access token and this at_hash."""
    assert half_hash("RS256", "jHkWEdUXMU1BwAsC4vtUsZwnNvTIxEl0z9K3vx5KF0Y") == "77QmUPtjPfzWtF2AnpK9RQ"
    assert half_hash("none", "x") is None


@pytest.mark.parametrize(
    ("members", "words"),
    [
        ({}, "no kty"),
        ({"kty": "XX"}, "not known"),
        ({"kty": "EC", "crv": "P-9", "x": "AA", "y": "AA"}, "curve"),
        ({"kty": "RSA", "e": "AQAB"}, "no n"),
        ({"kty": "RSA", "n": "*", "e": "AQAB"}, "base64url"),
        ({**EC_KEY, "y": EC_KEY["x"]}, ""),
        ({"kty": "OKP", "crv": "Ed25519", "x": "AA"}, ""),
        ("text", "no JSON object"),
    ],
)
def test_keys_that_cannot_be_used(members: Any, words: str) -> None:
    found = read_jwk(members)
    assert found.problem is not None
    assert words in found.problem
    assert not found.for_signing


def test_one_broken_key_hides_no_other() -> None:
    found = read_key_set({"keys": [{"kty": "RSA"}, EC_KEY, 7]})
    assert [one.problem is None for one in found] == [False, True, False]
    assert [one.place for one in found] == ["/keys/0", "/keys/1", "/keys/2"]


@pytest.mark.parametrize(
    ("header", "words"),
    [
        ({"zip": "DEF"}, "zip"),
        ({"alg": "PBES2-HS256+A128KW", "p2c": 10**9}, "rounds"),
        ({"crit": ["x"]}, "demands"),
        ({"alg": "XX"}, "XX"),
        ({"enc": "XX"}, "XX"),
    ],
)
def test_encryption_that_is_refused(header: dict[str, Any], words: str) -> None:
    with pytest.raises(Refused, match=words):
        decrypt(read_jwe(encrypt("x", key("jose").public_key(), **header)), key("jose"))


@given(st.binary(max_size=200))
def test_base64url_comes_back(octets: bytes) -> None:
    assert from_base64url(to_base64url(octets)) == (octets, False)


@given(st.text(max_size=300))
def test_no_text_is_more_than_damaged(text: str) -> None:
    for read in (read_jws, read_jwe):
        with contextlib.suppress(JoseDamaged):
            assert isinstance(read(text).header, dict)


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=8),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(st.sampled_from(["iss", "sub", "aud", "exp", "events", "scope", "x"]), inner, max_size=4)
        ),
    )
)
def test_any_claims_are_read(value: Any) -> None:
    jws = read_jws(sign(value, b"k" * 32, "HS256")) if isinstance(value, dict) else None
    if jws is None:
        return
    try:
        token = read_token(jws)
    except NoClaims:
        return
    assert token.kind
    for name in value:
        token.moment(name)
        token.text(name)
    assert all(isinstance(one, str) for one in token.audience)


def test_errors_have_words() -> None:
    for code in ("invalid_client", "invalid_grant", "login_required", "access_denied", "invalid_scope"):
        found = errors.meaning_of(code)
        assert found is not None
        assert found.side in ("application", "provider", "user")
    assert errors.meaning_of("N-17") is None


def _serialized(**members: Any) -> str:
    """A JWS in JSON form, with members beside or instead of the usual ones."""
    whole = {"protected": compact({"alg": "RS256"}), "payload": compact({"sub": "a"}), "signature": "AAAA"}
    return json.dumps({name: value for name, value in {**whole, **members}.items() if value is not None})


@pytest.mark.parametrize(
    "text, words",
    [
        (_serialized(signatures=[{"protected": "e30", "signature": "AAAA"}]), "two forms in one"),
        (_serialized(protected=None, signature=None, signatures=[]), "0 signatures"),
        (_serialized(protected=None, signature=None, signatures="x"), "no list of signatures"),
        (_serialized(header={"alg": "none"}), "alg is in both its protected and its unprotected header"),
        (_serialized(header=[]), "unprotected header is no JSON object"),
        ('{"payload": "e30", "payload": "e30", "protected": "e30", "signature": "AA"}', "payload twice"),
    ],
)
def test_mixed_and_doubled_forms_are_refused(text: str, words: str) -> None:
    """RFC 7515 §5.2, §7.2: each form by itself, each member once, no name in both headers."""
    with pytest.raises(JoseDamaged, match=words):
        read_jws(text)


def test_one_form_by_itself_is_read() -> None:
    assert read_jws(_serialized()).algorithm == "RS256"
    assert read_jws(_serialized(header={"kid": "k"})).key_id == "k"
    general = {"protected": compact({"alg": "RS256"}), "signature": "AAAA"}
    assert read_jws(_serialized(protected=None, signature=None, signatures=[general])).algorithm == "RS256"
